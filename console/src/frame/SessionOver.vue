<script setup lang="ts">
// Over the page: the session has ended. Whoever signs in again goes on where they were, with all that they typed.
import { NButton } from "naive-ui";
import { onMounted, ref } from "vue";
import { settleSession } from "@/api/confirmation";
import { offersPasskeys, showPasskey } from "@/api/passkeys";
import { wantsCode } from "@/api/problems";
import { current, signIn, signInByPasskey } from "@/api/session";
import CodeField from "@/pages/entry/CodeField.vue";
import { say } from "@/texts";
import OverPage from "@/ui/OverPage.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { useAttempt } from "@/ui/use/attempt";
import { saved } from "@/ui/use/unsaved";

const over = ref<InstanceType<typeof OverPage> | null>(null);
const field = ref<HTMLInputElement | null>(null);
const password = ref("");
const code = ref("");
const coded = ref(false);
const { busy, error, attempt } = useAttempt();
const before = current.value;
onMounted(() => field.value?.focus());

function close(again: boolean): void {
  over.value?.close();
  settleSession(again);
}
/** Go on, unless somebody else signed in: the page was another person's. */
function goOn(): void {
  const now = current.value;
  if (now?.person.id === before?.person.id && now?.directory === before?.directory) return close(true);
  saved();
  window.location.assign("/");
}
const byPassword = () =>
  attempt(async () => {
    try {
      await signIn(before?.person.login ?? "", password.value, before?.directory ?? "", code.value);
    } catch (problem) {
      if (!wantsCode(problem) || coded.value) throw problem;
      coded.value = true;
      return;
    }
    goOn();
  });
const byPasskey = () =>
  attempt(async () => {
    await signInByPasskey(await showPasskey());
    goOn();
  });
</script>

<template>
  <OverPage ref="over" :title="say('over.ended.title')" @away="close(false)">
    <form class="stack" @submit.prevent="byPassword">
      <p>{{ say("over.ended.again", { name: before?.person.name }) }}</p>
      <input type="email" :value="before?.person.login" autocomplete="username" hidden readonly />
      <label class="field">
        {{ say("all.password") }}
        <input
          ref="field"
          v-model="password"
          class="plain-input"
          type="password"
          autocomplete="current-password"
          required
          maxlength="200"
        />
      </label>
      <CodeField v-if="coded" v-model="code" />
      <ProblemNote v-if="error" :error="error" />
      <p class="soft small">{{ say("over.ended.other_way") }}</p>
      <div class="row">
        <NButton type="primary" attr-type="submit" :loading="busy" :disabled="busy || !password">{{ say("over.ended.sign_in") }}</NButton>
        <NButton v-if="offersPasskeys()" :disabled="busy" @click="byPasskey">{{ say("over.passkey") }}</NButton>
        <NButton @click="close(false)">{{ say("over.ended.leave") }}</NButton>
      </div>
    </form>
  </OverPage>
</template>
