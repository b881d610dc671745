<script setup lang="ts">
// Over the page: whoever is signed in shows once more that it is they. What they were doing goes on from where it was.
import { NButton } from "naive-ui";
import { nextTick, onMounted, ref } from "vue";
import { api, must } from "@/api/client";
import { settle } from "@/api/confirmation";
import { offersPasskeys, showPasskey } from "@/api/passkeys";
import { wantsCode } from "@/api/problems";
import { current } from "@/api/session";
import CodeField from "@/pages/entry/CodeField.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { useAttempt } from "@/ui/use/attempt";

const dialog = ref<HTMLDialogElement | null>(null);
const field = ref<HTMLInputElement | null>(null);
const password = ref("");
const code = ref("");
const coded = ref(false);
const { busy, error, attempt } = useAttempt();
// The browser gives the focus back to where it was when it closes.
onMounted(async () => {
  dialog.value?.showModal();
  await nextTick();
  field.value?.focus();
});

function close(shown: boolean): void {
  dialog.value?.close();
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
  <dialog ref="dialog" class="asked card" aria-labelledby="confirm-title" @cancel.prevent="close(false)">
    <form class="stack" @submit.prevent="byPassword">
      <h2 id="confirm-title">Show that it is you</h2>
      <p>It is a while since {{ current?.person.name }} signed in. What you were doing goes on afterwards.</p>
      <label class="field">
        Password
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
      <p class="soft small">Without a password here, sign out and come in again the way you came.</p>
      <div class="row">
        <NButton @click="close(false)">Cancel</NButton>
        <NButton v-if="offersPasskeys()" :disabled="busy" @click="byPasskey">Use a passkey</NButton>
        <NButton type="primary" attr-type="submit" :loading="busy" :disabled="busy || !password">Go on</NButton>
      </div>
    </form>
  </dialog>
</template>

<style scoped>
.asked {
  width: min(440px, calc(100vw - 2 * var(--s4)));
  border: 1px solid var(--line-strong);
  color: var(--ink);
}
.asked::backdrop {
  background: rgb(0 0 0 / 45%);
}
</style>
