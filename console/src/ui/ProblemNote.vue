<script setup lang="ts">
// What failed, what was kept, and what to do: one shape for every error.
import { computed } from "vue";
import { type Problem, problemOf, wasDone } from "@/api/problems";
import { say, spoken } from "@/texts";
import { told } from "@/texts/problems";

const props = defineProps<{ error: unknown; retry?: () => void }>();
const problem = computed<Problem>(() => problemOf(props.error));
const said = computed(() => told(problem.value));
// What takes another person's yes is no failure: it waits for one.
const waits = computed(() => (problem.value.made?.kind === "request" ? problem.value.made.id : ""));
</script>

<template>
  <div class="problem" :class="{ waits: waits || wasDone(error) }" role="alert">
    <p :lang="said.lang">
      <strong>{{ said.detail }}</strong>
    </p>
    <ul v-if="problem.fields.length" :lang="spoken === 'en' ? undefined : 'en'">
      <li v-for="one in problem.fields" :key="one.field + one.sent">
        <code>{{ one.field }}</code>: sent {{ one.sent }}; allowed: {{ one.allowed }} {{ one.next_step }}
      </li>
    </ul>
    <p v-if="said.next_step" :lang="said.lang">{{ said.next_step }}</p>
    <p v-if="waits">
      <RouterLink :to="{ name: 'request', params: { id: waits } }">{{ say("shared.see_what_waits") }}</RouterLink>
    </p>
    <button v-if="retry" type="button" class="link-button" @click="retry">{{ say("shared.try_again") }}</button>
  </div>
</template>

<style scoped>
.problem {
  border-left: 4px solid var(--broken);
  background: var(--broken-bg);
  padding: var(--s3) var(--s4);
  border-radius: var(--corner);
  display: grid;
  gap: var(--s1);
}
.waits {
  border-left-color: var(--wait);
  background: var(--card);
}
li {
  margin-left: var(--s4);
  list-style: disc;
}
</style>
