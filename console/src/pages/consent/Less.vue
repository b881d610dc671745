<script setup lang="ts">
// A request for less: what is held beside what was in a dry run, what would no longer be possible, what was missed.
import { NButton } from "naive-ui";
import { computed } from "vue";
import type { Schemas } from "@/api/client";
import { can } from "@/api/session";
import Moment from "@/ui/Moment.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import StateWord from "@/ui/StateWord.vue";
import { count, held } from "@/ui/use/words";
import Decide from "./Decide.vue";
import { t } from "@/texts/sentences";

const props = defineProps<{
  rightsized: Schemas["Rightsized"];
  mine: boolean;
  asker: string;
  busy: boolean;
  failed: unknown;
}>();
const emit = defineEmits<{ decide: [decision: "grant" | "decline", said: string, force: boolean]; takeBack: [] }>();
const dry_run = computed(() => props.rightsized.dry_run);
const over = computed(() => Date.parse(dry_run.value.dry_run_until) <= Date.now());
const early = computed(() => !over.value || dry_run.value.missed > 0);
</script>

<template>
  <div class="beside">
    <section aria-labelledby="held">
      <h2 id="held">Holds at {{ dry_run.resource }}</h2>
      <ul>
        <li v-for="one in held(dry_run.before)" :key="one">
          <code>{{ one }}</code>
        </li>
      </ul>
    </section>
    <section aria-labelledby="instead" class="would">
      <h2 id="instead">Would hold instead</h2>
      <ul>
        <li v-for="one in held(dry_run.after)" :key="one">
          <code>{{ one }}</code>
        </li>
        <li v-if="!dry_run.after.length">nothing</li>
      </ul>
    </section>
  </div>
  <dl class="facts">
    <dt>No longer possible</dt>
    <dd>
      <strong>{{ rightsized.no_longer.join(", ") || t`nothing` }}</strong>
    </dd>
    <template v-if="rightsized.narrower.length"
      ><dt>For fewer objects</dt>
      <dd>{{ rightsized.narrower.join(", ") }}</dd></template
    >
    <dt>In the dry run</dt>
    <dd>
      begun <Moment :at="dry_run.started_at" />, over <Moment :at="dry_run.dry_run_until" />:
      <StateWord
        :tone="dry_run.missed ? 'broken' : 'live'"
        :word="dry_run.missed ? t`${count(dry_run.missed, 'call')} would have been refused` : t`nothing would have been refused`"
      />
    </dd>
    <template v-if="dry_run.misses.length"
      ><dt>Missed</dt>
      <dd>
        <ul>
          <li v-for="one in dry_run.misses" :key="one.operation + one.object">
            {{ one.calls }} × <code>{{ one.operation }} {{ one.object }}</code
            >, last <Moment :at="one.last_at" />
          </li>
        </ul></dd
    ></template>
  </dl>
  <ProblemNote v-if="failed" :error="failed" />
  <footer v-if="can('requests.decide')" class="decide stack">
    <p v-if="early">
      {{
        dry_run.missed
          ? t`What was missed would be refused from now on.`
          : t`Its time is not over: what it does less often may not have been seen.`
      }}
    </p>
    <Decide
      :asker="asker"
      :grant="early ? t`Put it in force all the same` : t`Put it in force`"
      :busy="busy"
      :takes-back="mine && can('requests.withdraw')"
      @decide="(decision, words) => emit('decide', decision, words, decision === 'grant' && early)"
      @take-back="emit('takeBack')"
    />
  </footer>
  <footer v-else class="decide row">
    <p class="soft">An approver or steward decides; {{ asker }} reads how it ended here and on Today.</p>
    <NButton v-if="mine && can('requests.withdraw')" size="small" @click="emit('takeBack')">Take it back</NButton>
  </footer>
</template>

<style scoped>
.beside {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: var(--s4);
}
.would {
  border-left: 3px solid var(--live);
  padding-left: var(--s3);
}
section {
  display: grid;
  gap: var(--s2);
  align-content: start;
}
ul {
  list-style: none;
  padding: 0;
}
</style>
