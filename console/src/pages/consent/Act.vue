<script setup lang="ts">
// What one person may not do alone: why another must agree, who could, and a no that costs nothing.
import { NButton } from "naive-ui";
import type { Schemas } from "@/api/client";
import { can } from "@/api/session";
import ProblemNote from "@/ui/ProblemNote.vue";
import { acting } from "@/ui/use/words";
import Decide from "./Decide.vue";
import { t } from "@/texts/sentences";

const props = defineProps<{
  one: Schemas["ConsentRequest"];
  dossier: Schemas["RequestDossier"];
  mine: boolean;
  saidYes: boolean;
  busy: boolean;
  failed: unknown;
}>();
const emit = defineEmits<{ decide: [decision: "grant" | "decline", said: string]; takeBack: [] }>();
const alone = () => props.mine || props.saidYes;
</script>

<template>
  <dl class="facts">
    <template v-for="detail in dossier.details" :key="detail.label"
      ><dt>{{ detail.label }}</dt>
      <dd>{{ detail.value }}</dd></template
    >
    <dt>Why another person</dt>
    <dd>{{ one.why }}</dd>
    <template v-if="one.could?.length"
      ><dt>Who can agree</dt>
      <dd>{{ one.could.join(", ") }}</dd></template
    >
    <template v-if="one.outcome"
      ><dt>What became of it</dt>
      <dd>{{ one.outcome }}</dd></template
    >
  </dl>
  <table v-if="dossier.change?.affected.length" class="log">
    <caption>
      For whom, and what
    </caption>
    <thead>
      <tr>
        <th scope="col">Client</th>
        <th scope="col">Newly possible</th>
        <th scope="col">Wider or heavier</th>
        <th scope="col">Less or gone</th>
        <th scope="col" class="num">Weight</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="row in dossier.change.affected" :key="`${row.client_id}/${row.kind}`">
        <td class="free">
          {{ row.client_name }}
          <div class="soft small">{{ acting(row.kind) }}</div>
        </td>
        <td class="free">{{ row.newly.join(", ") || "–" }}</td>
        <td class="free">{{ row.wider.join(", ") || "–" }}</td>
        <td class="free">{{ [...row.narrower, ...row.no_longer].join(", ") || "–" }}</td>
        <td class="num">{{ row.added_weight > 0 ? "+" : "" }}{{ row.added_weight }}</td>
      </tr>
    </tbody>
  </table>
  <template v-if="one.state === 'waiting'">
    <ProblemNote v-if="failed" :error="failed" />
    <footer v-if="can('requests.decide')" class="decide stack">
      <p v-if="saidYes"><strong>You agreed already.</strong> Another approver must agree, too.</p>
      <p v-else-if="mine">You asked for this yourself: <strong>another person</strong> must agree.</p>
      <Decide
        :asker="one.requested_by"
        :grant="one.approvers > 1 && !one.approvals.length ? t`Agree, the first of two` : t`Agree: ${one.act?.toLowerCase()}`"
        :busy="busy"
        :blocked="alone()"
        :takes-back="mine && !!one.client_id && can('requests.withdraw')"
        @decide="(decision, words) => emit('decide', decision, words)"
        @take-back="emit('takeBack')"
      />
    </footer>
    <footer v-else class="decide row">
      <p class="soft">An approver or steward decides; {{ one.requested_by }} reads how it ended here.</p>
      <NButton v-if="mine && one.client_id && can('requests.withdraw')" size="small" @click="emit('takeBack')">Take it back</NButton>
    </footer>
  </template>
</template>
