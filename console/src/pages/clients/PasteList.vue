<script setup lang="ts">
// A list from a manual: what is unknown, redundant or heavy is said before anything is saved.
import { NButton } from "naive-ui";
import { computed, ref, watch } from "vue";
import { type Schemas, api, must } from "@/api/client";
import { directory } from "@/api/session";
import { useStale } from "@/api/reads/directory";
import ProblemNote from "@/ui/ProblemNote.vue";
import StateWord from "@/ui/StateWord.vue";
import TextField from "@/ui/forms/TextField.vue";
import { acting, count } from "@/ui/use/words";

const props = defineProps<{ client: string }>();
const emit = defineEmits<{ done: [] }>();
const text = ref("");
const reason = ref("");
const review = ref<Schemas["CheckedList"] | null>(null);
const error = ref<unknown>(null);
const stale = useStale();
watch(text, () => (review.value = null));
const needed = computed(() => (review.value?.asks ?? []).filter((one) => one.needed));
const wrong = computed(() => (review.value?.unknown.length ?? 0) + (review.value?.unclear.length ?? 0));
const params = () => ({ path: { directory: directory.value, client: props.client } });
const body = () => ({ text: text.value, kind: "application" as const, reason: reason.value });

async function run(call: () => Promise<void>): Promise<void> {
  error.value = null;
  try {
    await call();
  } catch (problem) {
    error.value = problem;
  }
}
const look = () =>
  run(async () => {
    const looked = text.value;
    const found = await must(api.POST("/api/v1/directories/{directory}/clients/{client}/asks/check", { params: params(), body: body() }));
    if (looked === text.value) review.value = found;
  });
const ask = () =>
  run(async () => {
    await must(api.POST("/api/v1/directories/{directory}/clients/{client}/asks/list", { params: params(), body: body() }));
    await stale();
    emit("done");
  });
</script>

<template>
  <form class="stack" @submit.prevent="look">
    <label class="field"
      >The list <span class="hint">names as the manual has them; a line may say delegated, or the resource before the name</span
      ><textarea v-model="text" class="plain-input" rows="7" spellcheck="false"></textarea>
    </label>
    <template v-if="review">
      <table v-if="review.asks.length" class="log">
        <thead>
          <tr>
            <th scope="col">Permission</th>
            <th scope="col">Acting</th>
            <th scope="col" class="num">Weight</th>
            <th scope="col">Verdict</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="one in review.asks" :key="`${one.resource}/${one.permission}/${one.kind}`">
            <td>
              <code>{{ one.permission }}</code> <span class="soft">at {{ one.resource }}</span>
            </td>
            <td>{{ acting(one.kind) }}</td>
            <td class="num">{{ one.weight }}</td>
            <td class="free">
              <StateWord v-if="one.asked" tone="gone" word="asked already" />
              <template v-else-if="one.implied_by"
                ><StateWord tone="wait" word="redundant" />: comes along with <code>{{ one.implied_by }}</code></template
              >
              <template v-else-if="one.control.length"
                ><StateWord tone="broken" word="heavy" />: opens {{ one.control.join(", ") }}</template
              >
              <StateWord v-else tone="live" word="needed" />
            </td>
          </tr>
        </tbody>
      </table>
      <p v-for="name in review.unknown" :key="name">
        <StateWord tone="broken" word="unknown" />: <code>{{ name }}</code>
      </p>
      <p v-for="one in review.unclear" :key="one.name">
        <StateWord tone="broken" word="unclear" />: <code>{{ one.name }}</code>, {{ one.why }}
      </p>
      <TextField
        v-if="needed.length && !wrong"
        v-model="reason"
        label="Reason"
        hint="for whoever decides, and for the ledger"
        :longest="500"
      />
    </template>
    <ProblemNote v-if="error" :error="error" />
    <div class="row">
      <NButton attr-type="submit" :disabled="!text.trim()">Look through the list</NButton>
      <NButton v-if="review" type="primary" :disabled="!needed.length || wrong > 0" @click="ask"
        >Ask for {{ count(needed.length, "permission") }}</NButton
      >
      <span v-if="wrong" class="soft small">Correct the names first; nothing is saved.</span>
    </div>
  </form>
</template>

<style scoped>
textarea {
  font-family: var(--mono);
  font-size: 12.5px;
  font-weight: 400;
}
</style>
