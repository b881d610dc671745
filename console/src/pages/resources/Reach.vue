<script setup lang="ts">
// The proof sheet: what the client can and cannot touch, by collection; and the same for one object.
import { computed, ref, watchEffect } from "vue";
import type { Schemas } from "@/api/client";
import { api, must } from "@/api/client";
import { directory } from "@/api/session";
import { useReach } from "@/api/reads/resources";
import ProblemNote from "@/ui/ProblemNote.vue";
import StateWord from "@/ui/StateWord.vue";
import { plural } from "@/texts/plural";
import { noted, t } from "@/texts/sentences";
import type { Tone } from "@/ui/use/states";

const props = defineProps<{ client: string; resources: Schemas["ResourceLadder"][] }>();
const places = computed(() => props.resources.filter((place) => place.object_name && place.resource !== "jamb"));
const resource = ref("");
watchEffect(() => {
  if (!places.value.some((place) => place.resource === resource.value)) resource.value = places.value[0]?.resource ?? "";
});
const { data, error } = useReach(() => props.client, resource);
const sheet = computed(() => (data.value?.resource === resource.value ? data.value : undefined));
const bounded = computed(() => (sheet.value?.operations ?? []).filter((one) => one.lines));
const free = computed(() => (sheet.value?.operations ?? []).filter((one) => !one.lines));
const lines = computed(() => bounded.value[0]?.lines ?? []);
const tones: Record<string, Tone> = { [noted("yes")]: "live", [noted("no")]: "gone", [noted("in part")]: "wait" };
const tone = (verdict: string): Tone => tones[verdict] ?? "gone";

const wanted = ref("");
const tried = ref<Schemas["ReachSheet"] | null>(null);
const failed = ref<unknown>(null);
async function test(): Promise<void> {
  failed.value = null;
  tried.value = null;
  try {
    tried.value = await must(
      api.GET("/api/v1/directories/{directory}/clients/{client}/reach", {
        params: {
          path: { directory: directory.value, client: props.client },
          query: { resource: resource.value, object: wanted.value.trim() },
        },
      }),
    );
  } catch (problem) {
    failed.value = problem;
  }
}
</script>

<template>
  <p v-if="!places.length" class="soft">It holds nothing at a resource whose objects reach can bound.</p>
  <div v-else class="stack">
    <nav v-if="places.length > 1" class="row" aria-label="Resource of the proof sheet">
      <button
        v-for="place in places"
        :key="place.resource"
        type="button"
        class="link-button"
        :aria-pressed="place.resource === resource"
        @click="((resource = place.resource), (tried = null))"
      >
        {{ place.title }}
      </button>
    </nav>
    <ProblemNote v-if="error" :error="error" />
    <template v-if="sheet">
      <p v-if="!sheet.live"><StateWord tone="gone" word="disabled" />: nothing is possible.</p>
      <div v-if="lines.length" class="scroll" tabindex="0" role="region" :aria-label="t`What it can touch at ${sheet.title}`">
        <table class="log">
          <thead>
            <tr>
              <th scope="col">{{ sheet.title }}</th>
              <th scope="col" class="num">{{ plural(sheet.object_name) }}</th>
              <th v-for="one in bounded" :key="one.operation" scope="col">{{ one.title }}</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="(line, at) in lines" :key="line.path">
              <td :style="{ paddingLeft: `${line.path.split('/').length * 18 - 6}px` }">
                {{ line.title }} <code class="soft">{{ line.path }}</code>
              </td>
              <td class="num">{{ line.objects }}</td>
              <td v-for="one in bounded" :key="one.operation">
                <StateWord :tone="tone(one.lines?.[at]?.verdict ?? 'no')" :word="t(one.lines?.[at]?.verdict ?? 'no')" />
              </td>
            </tr>
          </tbody>
        </table>
      </div>
      <ul class="small">
        <li v-for="one in [...bounded, ...free]" :key="one.operation">
          <strong>{{ one.title }}</strong>: {{ one.possible ? one.why : t`no`
          }}<template v-if="one.lines && one.possible && one.uncollected">, and what lies in no collection</template>
        </li>
      </ul>
      <form class="row no-print" data-filter @submit.prevent="test">
        <input
          v-model="wanted"
          class="plain-input"
          type="search"
          :aria-label="t`One ${sheet.object_name} to test`"
          :placeholder="t`One ${sheet.object_name}`"
        />
        <button type="submit" class="link-button" :disabled="!wanted.trim()">Test it</button>
      </form>
      <ProblemNote v-if="failed" :error="failed" />
      <div v-if="tried" role="status">
        <p>
          <code>{{ tried.object }}</code> lies in {{ tried.object_in.join(", ") || t`no collection` }}.
        </p>
        <ul>
          <li v-for="one in tried.decisions" :key="one.operation">
            <StateWord :tone="one.allowed ? 'live' : 'broken'" :word="one.allowed ? t`yes` : t`no`" /> {{ one.title }}
            <span class="soft small">{{ one.why }}</span>
          </li>
        </ul>
      </div>
    </template>
  </div>
</template>

<style scoped>
.scroll {
  overflow-x: auto;
}
td {
  white-space: nowrap;
}
[aria-pressed="true"] {
  font-weight: 640;
  text-decoration: none;
  color: var(--ink);
}
</style>
