<script setup lang="ts">
// One group of findings: how many and how bad; open, its rows: as they are given, or read here page by page.
import { computed } from "vue";
import type { Schemas } from "@/api/client";
import { type FindingFilter, useFindings } from "@/api/reads/audit";
import Moment from "@/ui/Moment.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import StateWord from "@/ui/StateWord.vue";
import { severityTone } from "@/ui/use/states";
import { t } from "@/texts/sentences";
import { listed } from "@/texts/listed";

const props = defineProps<{
  group: Schemas["FindingGroup"];
  by: "rule" | "client" | "owner";
  filter: FindingFilter;
  open: boolean;
  chosen: string;
  titles: Record<string, string>;
  given?: Schemas["KeptFinding"][] | null;
}>();
const emit = defineEmits<{ flip: []; choose: [finding: Schemas["KeptFinding"]] }>();
const wanted = computed<FindingFilter>(() => ({
  ...props.filter,
  [props.by]: props.by === "owner" && !props.group.key ? "none" : props.group.key,
}));
// Null: they are on their way, for all groups at once.
const { data, error, isLoading: reading, hasNextPage, fetchNextPage } = useFindings(wanted, () => props.open && props.given === undefined);
const isLoading = computed(() => props.given === null || (props.given === undefined && reading.value));
const rows = computed(() => props.given ?? (data.value?.pages ?? []).flatMap((page) => page.items));
const name = computed(() => props.group.title || t`Nobody owns these`);
</script>

<template>
  <section>
    <h2>
      <button type="button" class="head" :aria-expanded="open" @click="emit('flip')">
        <span class="mark" aria-hidden="true">{{ open ? "▾" : "▸" }}</span> {{ name }}
        <span class="soft small">{{ group.count }}</span>
        <StateWord v-if="!open" :tone="severityTone[group.worst] ?? 'gone'" :word="listed(group.worst)" />
      </button>
    </h2>
    <template v-if="open">
      <ProblemNote v-if="error" :error="error" />
      <p v-if="isLoading" class="soft small" role="status" :style="{ minHeight: `${Math.min(group.count, 50) * 33 + 2}px` }">Reading …</p>
      <table v-else class="log">
        <caption class="visually-hidden">
          {{
            name
          }}
        </caption>
        <thead class="visually-hidden">
          <tr>
            <th scope="col">Severity</th>
            <th scope="col">Client</th>
            <th scope="col">What is wrong</th>
            <th scope="col">Since</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="one in rows" :key="one.id" :class="{ chosen: one.id === chosen }">
            <td class="severity"><StateWord :tone="severityTone[one.severity] ?? 'gone'" :word="listed(one.severity)" /></td>
            <td class="client free">{{ by === "client" ? (titles[one.rule] ?? one.rule) : one.client_name }}</td>
            <td class="free">
              <button type="button" class="link-button finding" :aria-expanded="one.id === chosen" @click="emit('choose', one)">
                {{ one.title }}
              </button>
              <div v-if="one.assigned_to" class="small soft">
                {{ one.answer ? t`${one.assigned_to} has answered` : t`${one.assigned_to} sees to it` }}
              </div>
            </td>
            <td class="since small soft"><Moment :at="one.resolved_at ?? one.first_seen_at" /></td>
          </tr>
        </tbody>
      </table>
      <button v-if="hasNextPage && given === undefined" type="button" class="link-button small" @click="fetchNextPage()">
        Show more of {{ group.count }}
      </button>
    </template>
  </section>
</template>

<style scoped>
section {
  margin-bottom: var(--s3);
}
.head {
  font: inherit;
  color: inherit;
  background: none;
  border: 0;
  padding: 4px 0;
  cursor: pointer;
  display: flex;
  gap: var(--s2);
  align-items: baseline;
  text-align: left;
}
.mark {
  width: 12px;
  color: var(--ink-soft);
}
h2 {
  font-size: var(--t-lead);
}
table.log {
  border-top-width: 1px;
}
/* A button of two lines has its baseline at the last: align at the top instead. */
table.log td {
  vertical-align: top;
}
.severity {
  width: 88px;
}
.client {
  width: 200px;
  font-weight: 560;
}
.since {
  width: 104px;
  white-space: nowrap;
  text-align: right;
}
</style>
