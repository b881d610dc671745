<script setup lang="ts">
// Where something counts: everywhere, or a choice in the tree of collections, with how much that is.
import { NCheckbox } from "naive-ui";
import { computed, useId } from "vue";
import { type ReachChoice } from "@/api/reads/consent";
import { useCollections } from "@/api/reads/resources";
import FindSome from "@/ui/forms/FindSome.vue";
import { useSome } from "@/ui/use/some";
import { plural } from "@/texts/plural";
import { figure } from "@/ui/use/words";
import { t } from "@/texts/sentences";

const props = defineProps<{ resource: string; label: string }>();
const reach = defineModel<ReachChoice>({ required: true });
const { data } = useCollections(() => props.resource);
const id = useId();
const WAYS = [
  ["everywhere", t`everywhere`],
  ["only", t`only in`],
  ["all-but", t`all but`],
] as const;
const what = computed(() => (data.value?.object_name ? plural(data.value.object_name) : t`objects`));
const chosen = computed(() => new Set(reach.value.collections));
const above = (path: string) => [...chosen.value].some((other) => path.startsWith(`${other}/`));
const {
  wanted,
  shown,
  found,
  all: there,
} = useSome(
  () => data.value?.collections,
  (one) => `${one.title} ${one.path}`,
);
// What is chosen stays in sight, whatever is looked for: above what is found, where it is not among that.
const listed = computed(() => {
  const among = new Set(shown.value.map((one) => one.path));
  return [...(data.value?.collections ?? []).filter((one) => chosen.value.has(one.path) && !among.has(one.path)), ...shown.value];
});
const members = (paths: Iterable<string>) => {
  const wanted = [...paths];
  const inside = (data.value?.collections ?? []).filter((one) =>
    wanted.some((path) => one.path === path || one.path.startsWith(`${path}/`)),
  );
  return new Set(inside.flatMap((one) => one.objects)).size;
};
const covered = computed(() => {
  const all = data.value?.objects ?? 0;
  const named = members(chosen.value);
  return reach.value.kind === "everywhere" ? all : reach.value.kind === "only" ? named : all - named;
});

const way = (kind: ReachChoice["kind"]) => (reach.value = { kind, collections: kind === "everywhere" ? [] : reach.value.collections });
function flip(path: string, on: boolean): void {
  const rest = reach.value.collections.filter((one) => one !== path && !(on && one.startsWith(`${path}/`)));
  reach.value = { kind: reach.value.kind, collections: on ? [...rest, path].sort() : rest };
}
</script>

<template>
  <fieldset v-if="data?.collections.length" class="reach">
    <legend>{{ label }}</legend>
    <div class="row ways">
      <label v-for="[kind, word] in WAYS" :key="kind"
        ><input type="radio" :name="id" :checked="reach.kind === kind" @change="way(kind)" /> {{ word }}</label
      >
      <span class="soft small" role="status">{{
        reach.kind !== "everywhere" && !chosen.size
          ? t`choose at least one collection`
          : t`${figure(covered)} of ${figure(data.objects)} ${what}`
      }}</span>
    </div>
    <template v-if="reach.kind !== 'everywhere'">
      <FindSome v-model="wanted" label="Find a collection" :shown="shown.length" :found="found" :all="there" />
      <ul class="tree">
        <li v-for="one in listed" :key="one.path" :style="{ paddingLeft: `${one.path.split('/').length * 18 - 18}px` }">
          <NCheckbox
            :checked="chosen.has(one.path) || above(one.path)"
            :disabled="above(one.path)"
            @update:checked="(on: boolean) => flip(one.path, on)"
          >
            {{ one.title }} <code class="soft">{{ one.path }}</code> <span class="soft small">{{ one.size }}</span>
          </NCheckbox>
        </li>
      </ul>
    </template>
  </fieldset>
</template>

<style scoped>
.reach {
  border: 1px solid var(--line);
  border-radius: var(--corner);
  padding: var(--s2) var(--s3);
  margin: 0;
  display: grid;
  gap: var(--s2);
  min-width: 0;
}
legend {
  font-weight: 560;
  padding: 0 var(--s1);
}
.ways label {
  display: inline-flex;
  gap: 5px;
  align-items: center;
  min-height: 24px;
}
.tree {
  max-height: 260px;
  overflow-y: auto;
  display: grid;
  gap: 2px;
}
</style>
