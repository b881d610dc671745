<script setup lang="ts">
// One grant or role to answer for: what it is in plain words, whether it is used, and three answers.
import { NButton } from "naive-ui";
import { ref } from "vue";
import { type Schemas, api, must } from "@/api/client";
import { directory } from "@/api/session";
import { type ReachChoice } from "@/api/reads/consent";
import { useStale } from "@/api/reads/directory";
import { useAttempt } from "@/ui/use/attempt";
import Moment from "@/ui/Moment.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import ReachEditor from "@/ui/forms/ReachEditor.vue";
import StateWord from "@/ui/StateWord.vue";
import { t } from "@/texts/sentences";

type Item = Schemas["ReviewItem"];
const props = defineProps<{ review: string; item: Item; closed: boolean }>();
const changing = ref(false);
const narrowing = ref(false);
const words = ref(props.item.words);
const reach = ref<ReachChoice>({
  kind: props.item.narrower?.kind ?? "only",
  collections: [...(props.item.narrower?.collections ?? [])],
});
const { busy, error, attempt } = useAttempt();
const stale = useStale();
const SAID: Record<string, [string, "live" | "wait" | "broken" | "gone"]> = {
  confirm: [t`still needed`, "live"],
  narrow: [t`needed for less`, "wait"],
  "give-up": [t`not needed`, "gone"],
  proposed: [t`nobody answered: proposed to end`, "broken"],
};
const answer = (said: "confirm" | "narrow" | "give-up") =>
  attempt(async () => {
    const narrower = said === "narrow" ? { kind: reach.value.kind, collections: reach.value.collections } : null;
    await must(
      api.POST("/api/v1/directories/{directory}/clients/{client}/reviews/{review}/answers", {
        params: { path: { directory: directory.value, client: props.item.client_id, review: props.review } },
        body: { answers: [{ item: props.item.id, answer: said, words: words.value.trim(), narrower }] },
      }),
    );
    changing.value = narrowing.value = false;
    await stale();
  });
</script>

<template>
  <li class="question card">
    <div class="what">
      <h4>
        {{ item.title }}
        <span class="soft small"
          >at {{ item.resource }}<template v-if="item.through">, by {{ item.through }}</template
          ><template v-if="item.kind === 'delegated'">, for whoever is signed in</template></span
        >
      </h4>
      <p class="small">
        It lets it: {{ item.opens.join(", ").toLowerCase() }}. <span class="soft">Counts {{ item.reach.words }}.</span>
      </p>
      <p class="small">
        <StateWord v-if="item.used === 'used'" tone="live" word="used" /><StateWord
          v-else-if="item.used === 'never'"
          tone="broken"
          word="never used"
        /><StateWord v-else-if="item.used === 'lapsed'" tone="broken" word="not used for long" /><StateWord
          v-else
          tone="wait"
          word="too early to say"
        />
        <template v-if="item.last_used_at"
          ><template v-if="item.used !== 'used'">, last</template>{{ " " }}<Moment :at="item.last_used_at" /></template
        ><template v-if="item.used === 'used'">, for: {{ item.uses.join(", ").toLowerCase() }}</template>
      </p>
    </div>
    <div class="answer">
      <template v-if="item.answer && !changing">
        <StateWord :tone="SAID[item.answer]?.[1] ?? 'gone'" :word="SAID[item.answer]?.[0] ?? item.answer" />
        <p v-if="item.narrower" class="small">{{ item.narrower.words }}</p>
        <p v-if="item.words" class="small">“{{ item.words }}”</p>
        <p v-if="item.answered_by" class="small soft">{{ item.answered_by }}, <Moment :at="item.answered_at" /></p>
        <p v-if="item.done_at" class="small">carried out <Moment :at="item.done_at" /></p>
        <button v-if="!closed" type="button" class="link-button small" @click="changing = true">Answer differently</button>
      </template>
      <template v-else-if="!closed">
        <label class="small field"
          >A word about it <span class="hint">if you like</span><input v-model="words" class="plain-input" maxlength="500"
        /></label>
        <div class="row">
          <NButton size="small" :disabled="busy" @click="answer('confirm')">Still needed</NButton>
          <NButton
            v-if="item.collections.length && !item.through"
            size="small"
            :disabled="busy"
            :aria-expanded="narrowing"
            @click="narrowing = !narrowing"
            >Needed for less</NButton
          >
          <NButton size="small" :disabled="busy" @click="answer('give-up')">Not needed</NButton>
        </div>
        <template v-if="narrowing">
          <ReachEditor v-model="reach" :resource="item.resource" label="Where it would do" />
          <div>
            <NButton
              size="small"
              type="primary"
              :disabled="busy || reach.kind === 'everywhere' || !reach.collections.length"
              @click="answer('narrow')"
              >Only there</NButton
            >
          </div>
        </template>
      </template>
      <span v-else class="soft small">waits</span>
      <ProblemNote v-if="error" :error="error" />
    </div>
  </li>
</template>

<style scoped>
.question {
  display: grid;
  grid-template-columns: minmax(0, 1fr) 340px;
  gap: var(--s4);
  list-style: none;
}
.what,
.answer {
  display: grid;
  gap: var(--s1);
  align-content: start;
}
h4 {
  font-size: var(--t-body);
  font-weight: 620;
  margin: 0;
}
h4 .soft {
  font-weight: 400;
}
.field {
  display: block;
}
.field input {
  display: block;
  width: 100%;
  margin-top: 2px;
}
</style>
