<script setup lang="ts">
// Over the page: whoever is signed in shows once more that it is they. What they were doing goes on from where it was.
import { NButton } from "naive-ui";
import { onMounted, ref } from "vue";
import { api, must } from "@/api/client";
import { settle } from "@/api/confirmation";
import { offersPasskeys, showPasskey } from "@/api/passkeys";
import { wantsCode } from "@/api/problems";
import { current } from "@/api/session";
import CodeField from "@/pages/entry/CodeField.vue";
import { say } from "@/texts";
import OverPage from "@/ui/OverPage.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { useAttempt } from "@/ui/use/attempt";

const over = ref<InstanceType<typeof OverPage> | null>(null);
const field = ref<HTMLInputElement | null>(null);
const password = ref("");
const code = ref("");
const coded = ref(false);
const { busy, error, attempt } = useAttempt();
onMounted(() => field.value?.focus());

function close(shown: boolean): void {
  over.value?.close();
  settle(shown);
}
const byPassword = () =>
  attempt(async () => {
    try {
      await must(api.POST("/api/v1/session/confirmation", { body: { password: password.value, code: code.value } }));
    } catch (problem) {
      if (!wantsCode(problem) || coded.value) throw problem;
      coded.value = true;
      return;
    }
    close(true);
  });
const byPasskey = () =>
  attempt(async () => {
    const credential = await showPasskey();
    await must(api.POST("/api/v1/session/confirmation/passkey", { body: { credential } }));
    close(true);
  });
</script>

<template>
  <OverPage ref="over" :title="say('over.confirm.title')" @away="close(false)">
    <form class="stack" @submit.prevent="byPassword">
      <p>{{ say("over.confirm.why", { name: current?.person.name }) }}</p>
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
      <p class="soft small">{{ say("over.confirm.no_password") }}</p>
      <div class="row">
        <NButton @click="close(false)">{{ say("all.cancel") }}</NButton>
        <NButton v-if="offersPasskeys()" :disabled="busy" @click="byPasskey">{{ say("over.passkey") }}</NButton>
        <NButton type="primary" attr-type="submit" :loading="busy" :disabled="busy || !password">{{ say("over.confirm.go_on") }}</NButton>
      </div>
    </form>
  </OverPage>
</template>
