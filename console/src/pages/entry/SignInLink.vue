<script setup lang="ts">
// Whoever was given a sign-in link chooses their password here, once, and is signed in by it.
import { NButton } from "naive-ui";
import { ref } from "vue";
import { useRoute, useRouter } from "vue-router";
import { type Schemas, api, must } from "@/api/client";
import { wantsCode } from "@/api/problems";
import { signIn } from "@/api/session";
import GatePage from "@/frame/GatePage.vue";
import Moment from "@/ui/Moment.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { useAttempt } from "@/ui/use/attempt";

const router = useRouter();
const link = String(useRoute().params.id);
// What opens it is behind the #: browsers send that to nobody. It leaves the address bar, too.
const key = window.location.hash.slice(1);
window.history.replaceState(window.history.state, "", window.location.pathname);
const params = { path: { link } };
const found = ref<Schemas["WaitingSignInLink"] | null>(null);
const wanted = ref("");
const again = ref("");
const { busy, error, attempt } = useAttempt();
const SHORTEST = 10;

void attempt(async () => void (found.value = await must(api.POST("/api/v1/sign-in-links/{link}/look", { params, body: { key } }))));
const choose = () =>
  attempt(async () => {
    await must(api.POST("/api/v1/sign-in-links/{link}/password", { params, body: { key, password: wanted.value } }));
    if (!found.value) return;
    try {
      await signIn(found.value.login, wanted.value, found.value.directory);
    } catch (problem) {
      if (!wantsCode(problem)) throw problem;
      // The password is chosen; who has a second factor goes on where it is asked for.
      return router.replace({ name: "sign-in", query: { directory: found.value.directory } });
    }
    await router.replace("/");
  });
</script>

<template>
  <GatePage>
    <template v-if="found && found.state === 'waiting'">
      <h1>Choose your password</h1>
      <p>
        {{ found.name }}, you sign in to {{ found.directory_name }} as <strong>{{ found.login }}</strong>. This link opens once, and runs
        out <Moment :at="found.expires_at" />.
      </p>
      <form class="stack" @submit.prevent="choose">
        <input class="unseen" type="email" autocomplete="username" :value="found.login" readonly tabindex="-1" aria-hidden="true" />
        <label class="field"
          >Password <span class="hint">{{ SHORTEST }} characters or more; a sentence is good</span
          ><input
            v-model="wanted"
            class="plain-input"
            type="password"
            autocomplete="new-password"
            :minlength="SHORTEST"
            maxlength="200"
            required
        /></label>
        <label class="field"
          >Password again <input v-model="again" class="plain-input" type="password" autocomplete="new-password" maxlength="200" required
        /></label>
        <p v-if="again && again !== wanted" role="alert">The two passwords differ.</p>
        <ProblemNote v-if="error" :error="error" />
        <div>
          <NButton
            type="primary"
            attr-type="submit"
            size="large"
            :loading="busy"
            :disabled="busy || wanted.length < SHORTEST || wanted !== again"
            >Choose it and sign in</NButton
          >
        </div>
      </form>
    </template>
    <template v-else-if="found">
      <h1>A sign-in link</h1>
      <p v-if="found.state === 'used'" role="alert">
        This link was used before. If that was you, <RouterLink :to="{ name: 'sign-in' }">sign in</RouterLink> with the password that you
        chose; if not, tell {{ found.made_by }} at once.
      </p>
      <p v-else role="alert">
        This link opens nothing any more: {{ found.state === "expired" ? "it ran out" : "it was replaced by a later one" }}. Ask
        {{ found.made_by }} for another.
      </p>
    </template>
    <template v-else>
      <h1>A sign-in link</h1>
      <ProblemNote v-if="error" :error="error" />
      <p v-else class="soft">Looking …</p>
    </template>
  </GatePage>
</template>

<style scoped>
.unseen {
  display: none;
}
</style>
