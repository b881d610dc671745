<script setup lang="ts">
// Change where a granted permission counts: what widens is looked at first; what narrows acts within seconds.
import { NButton } from "naive-ui";
import { ref, watch } from "vue";
import { type Schemas, api, must } from "@/api/client";
import { directory } from "@/api/session";
import { type ReachChoice } from "@/api/reads/consent";
import { useStale } from "@/api/reads/directory";
import { useAttempt } from "@/ui/use/attempt";
import ProblemNote from "@/ui/ProblemNote.vue";
import ReachEditor from "@/ui/forms/ReachEditor.vue";
import { t } from "@/texts/sentences";

const props = defineProps<{ client: string; resource: string; rung: Schemas["Rung"]; held: Schemas["Holding"] }>();
const open = ref(false);
const reach = ref<ReachChoice>({ ...props.held.reach });
const seen = ref<Schemas["ReachPreview"] | null>(null);
const { busy, error, attempt } = useAttempt();
const stale = useStale();
watch(reach, () => (seen.value = null), { deep: true });

async function set(looked: boolean): Promise<void> {
  const params = { path: { directory: directory.value, client: props.client } };
  const body = {
    resource: props.resource,
    permissions: [props.rung.permission],
    kind: props.rung.kind,
    reach: { kind: reach.value.kind, collections: reach.value.collections },
    person: props.held.person_id,
    reason: "",
  };
  await attempt(async () => {
    if (!looked) {
      const found = await must(api.POST("/api/v1/directories/{directory}/clients/{client}/consent/reach/preview", { params, body }));
      if (found.newly.length || found.wider.length) {
        seen.value = found;
        return;
      }
    }
    await must(api.POST("/api/v1/directories/{directory}/clients/{client}/consent/reach", { params, body }));
    open.value = false;
    seen.value = null;
    await stale();
  });
}
</script>

<template>
  <div class="stack">
    <button v-if="!open" type="button" class="link-button small" @click="open = true">
      {{ held.person ? t`Change its reach for ${held.person}` : t`Change its reach` }}
    </button>
    <template v-else>
      <ReachEditor
        v-model="reach"
        :resource="resource"
        :label="held.person ? t`Where ${rung.permission} counts for ${held.person}` : t`Where ${rung.permission} counts`"
      />
      <ProblemNote v-if="error" :error="error" />
      <section v-if="seen" class="wider stack" aria-live="polite">
        <p>
          <strong>It would count for more</strong>, with a weight of {{ seen.added_weight }}:
          {{ [...seen.newly, ...seen.wider].map((one) => one.title).join("; ") }}.
        </p>
        <p v-if="seen.agreement">{{ seen.agreement }}</p>
      </section>
      <div class="row">
        <NButton size="small" @click="open = false">Cancel</NButton>
        <NButton
          size="small"
          :type="seen ? 'default' : 'primary'"
          :loading="busy"
          :disabled="busy || (reach.kind !== 'everywhere' && !reach.collections.length)"
          @click="set(!!seen)"
          >{{ seen ? (seen.agreement ? t`Ask another person to agree` : t`Widen the reach`) : t`Set the reach` }}</NButton
        >
      </div>
    </template>
  </div>
</template>

<style scoped>
.wider {
  border-left: 4px solid var(--wait);
  padding-left: var(--s3);
}
</style>
