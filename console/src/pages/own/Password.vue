<script setup lang="ts">
// Choose a password of one's own: nobody else knows it then, and every other sign-in ends.
import { NButton } from "naive-ui";
import { ref } from "vue";
import { api, must } from "@/api/client";
import { current, refresh } from "@/api/session";
import { useAttempt } from "@/ui/use/attempt";
import PageHead from "@/ui/PageHead.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { say } from "@/texts";
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
  <PageHead :title="say('all.your_sign_in')" :lead="say(current?.own_password === false ? 'password.known' : 'password.lead')" />
  <SecondFactor v-if="first" />
  <h2>{{ say("all.password") }}</h2>
  <p v-if="done" role="status">{{ say("password.changed") }}</p>
  <form class="stack form" @submit.prevent="save">
    <label class="field"
      >{{ say("password.current") }}
      <input v-model="old" class="plain-input" type="password" autocomplete="current-password" maxlength="200" required
    /></label>
    <label class="field"
      >{{ say("password.new") }} <span class="hint">{{ say("password.new_hint") }}</span><input
        v-model="wanted"
        class="plain-input"
        type="password"
        autocomplete="new-password"
        minlength="10"
        maxlength="200"
        required
    /></label>
    <label class="field"
      >{{ say("password.new_again") }}
      <input v-model="again" class="plain-input" type="password" autocomplete="new-password" maxlength="200" required
    /></label>
    <p v-if="again && again !== wanted" role="alert">{{ say("password.differ") }}</p>
    <ProblemNote v-if="error" :error="error" />
    <div>
      <NButton type="primary" attr-type="submit" :loading="busy" :disabled="busy || !old || wanted.length < 10 || wanted !== again">{{
        say("password.change")
      }}</NButton>
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
