<script setup lang="ts">
// What one was given to see to: what is wrong, what resolves it, who asks, and what one answers.
import { NButton } from "naive-ui";
import { reactive, ref } from "vue";
import { type Schemas, api, must } from "@/api/client";
import { can, directory } from "@/api/session";
import { useGiven } from "@/api/reads/audit";
import { useStale } from "@/api/reads/directory";
import { useAttempt } from "@/ui/use/attempt";
import Moment from "@/ui/Moment.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import StateWord from "@/ui/StateWord.vue";
import TextField from "@/ui/forms/TextField.vue";
import { severityTone } from "@/ui/use/states";
import { t } from "@/texts/sentences";
import { listed } from "@/texts/listed";

const { data } = useGiven();
const words = reactive<Record<string, string>>({});
const failed = ref("");
const { busy, error, attempt } = useAttempt();
const stale = useStale();
const answer = (one: Schemas["KeptFinding"]) => {
  failed.value = one.id;
  return attempt(async () => {
    await must(
      api.POST("/api/v1/directories/{directory}/clients/{client}/findings/{finding}/answer", {
        params: { path: { directory: directory.value, client: one.client_id, finding: one.id } },
        body: { words: words[one.id] ?? "" },
      }),
    );
    words[one.id] = "";
    await stale();
  });
};
</script>

<template>
  <section v-if="data?.length" aria-labelledby="given">
    <h2 id="given">
      Given to you
      <span class="soft small">{{ data.filter((one) => !one.answer).length }} of {{ data.length }} without your answer</span>
    </h2>
    <ul>
      <li v-for="one in data" :key="one.id" class="card stack">
        <p>
          <StateWord :tone="severityTone[one.severity] ?? 'gone'" :word="listed(one.severity)" />{{ " " }}
          <RouterLink :to="{ name: 'dossier', params: { id: one.client_id } }">{{ one.client_name }}</RouterLink>:
          <strong>{{ one.title }}</strong>
        </p>
        <p>{{ one.remedy }}</p>
        <p class="small soft">
          {{ one.assigned_by }} asks you to see to it, <Moment :at="one.assigned_at" /><template v-if="one.note"
            >: “{{ one.note }}”</template
          >. Found since <Moment :at="one.first_seen_at" />.
        </p>
        <p v-if="one.answer" class="said"><StateWord tone="live" word="answered" /> <Moment :at="one.answered_at" />: {{ one.answer }}</p>
        <form v-if="can('findings.answer')" class="row" @submit.prevent="answer(one)">
          <TextField
            :model-value="words[one.id] ?? ''"
            :label="one.answer ? t`Answer anew` : t`Your answer`"
            hint="what you did or found"
            :longest="500"
            class="wide"
            @update:model-value="(said) => (words[one.id] = said)"
          />
          <NButton attr-type="submit" :loading="busy && failed === one.id" :disabled="busy || !(words[one.id] ?? '').trim()"
            >Answer</NButton
          >
        </form>
        <ProblemNote v-if="error && failed === one.id" :error="error" />
      </li>
    </ul>
  </section>
</template>

<style scoped>
section {
  margin-bottom: var(--s5);
}
h2 {
  margin-bottom: var(--s2);
}
ul {
  list-style: none;
  padding: 0;
  display: grid;
  gap: var(--s3);
}
.row {
  align-items: end;
  gap: var(--s3);
}
.wide {
  flex: 1;
}
.said {
  border-left: 3px solid var(--live);
  padding-left: var(--s2);
}
</style>
