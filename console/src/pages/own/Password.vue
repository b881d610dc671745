<script setup lang="ts">
// Choose a password of one's own: nobody else knows it then, and every other sign-in ends.
import { NButton } from "naive-ui";
import { ref } from "vue";
import { api, must } from "@/api/client";
import { current, refresh } from "@/api/session";
import { useAttempt } from "@/ui/use/attempt";
import PageHead from "@/ui/PageHead.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import SecondFactor from "./SecondFactor.vue";
import SignIns from "./SignIns.vue";

// What is wanted stands first, and stays where it stands: it shows codes that are shown once.
const first = current.value?.factor_due ?? false;
const old = ref("");
const wanted = ref("");
const again = ref("");
const done = ref(false);
const { busy, error, attempt } = useAttempt();
async function save(): Promise<void> {
  await attempt(async () => {
    await must(api.PUT("/api/v1/session/password", { body: { current: old.value, password: wanted.value } }));
    old.value = wanted.value = again.value = "";
    done.value = true;
    await refresh();
  });
}
</script>

<template>
  <PageHead
    title="Your sign-in"
    :lead="
      current?.own_password === false
        ? 'Somebody else chose your password: while they know it, your yes does not count as another person\'s'
        : 'How you prove that it is you'
    "
  />
  <SecondFactor v-if="first" />
  <h2>Password</h2>
  <p v-if="done" role="status">Your password is changed. Every other sign-in of yours has ended.</p>
  <form class="stack form" @submit.prevent="save">
    <label class="field"
      >Current password <input v-model="old" class="plain-input" type="password" autocomplete="current-password" maxlength="200" required
    /></label>
    <label class="field"
      >New password <span class="hint">10 characters or more, nothing that is guessed early</span
      ><input v-model="wanted" class="plain-input" type="password" autocomplete="new-password" minlength="10" maxlength="200" required
    /></label>
    <label class="field"
      >New password again <input v-model="again" class="plain-input" type="password" autocomplete="new-password" maxlength="200" required
    /></label>
    <p v-if="again && again !== wanted" role="alert">The two new passwords differ.</p>
    <ProblemNote v-if="error" :error="error" />
    <div>
      <NButton type="primary" attr-type="submit" :loading="busy" :disabled="busy || !old || wanted.length < 10 || wanted !== again"
        >Change the password</NButton
      >
    </div>
  </form>
  <SecondFactor v-if="!first" />
  <SignIns />
</template>

<style scoped>
.form {
  max-width: 420px;
}
</style>
