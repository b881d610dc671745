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
import { say } from "@/texts";
import Said from "@/texts/Said";

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
      <h1>{{ say("link.choose") }}</h1>
      <Said text="link.who" tag="p">
        <template #person>{{ found.name }}</template>
        <template #directory>{{ found.directory_name }}</template>
        <template #login
          ><strong>{{ found.login }}</strong></template
        >
        <template #moment><Moment :at="found.expires_at" /></template>
      </Said>
      <form class="stack" @submit.prevent="choose">
        <input class="unseen" type="email" autocomplete="username" :value="found.login" readonly tabindex="-1" aria-hidden="true" />
        <label class="field"
          >{{ say("all.password") }} <span class="hint">{{ say("link.hint", { shortest: SHORTEST }) }}</span><input
            v-model="wanted"
            class="plain-input"
            type="password"
            autocomplete="new-password"
            :minlength="SHORTEST"
            maxlength="200"
            required
        /></label>
        <label class="field"
          >{{ say("all.password_again") }}
          <input v-model="again" class="plain-input" type="password" autocomplete="new-password" maxlength="200" required
        /></label>
        <p v-if="again && again !== wanted" role="alert">{{ say("all.passwords_differ") }}</p>
        <ProblemNote v-if="error" :error="error" />
        <div>
          <NButton
            type="primary"
            attr-type="submit"
            size="large"
            :loading="busy"
            :disabled="busy || wanted.length < SHORTEST || wanted !== again"
            >{{ say("link.save") }}</NButton
          >
        </div>
      </form>
    </template>
    <template v-else-if="found">
      <h1>{{ say("link.title") }}</h1>
      <Said v-if="found.state === 'used'" text="link.used" tag="p" role="alert">
        <template #link
          ><RouterLink :to="{ name: 'sign-in' }">{{ say("link.used_link") }}</RouterLink></template
        >
        <template #maker>{{ found.made_by }}</template>
      </Said>
      <p v-else role="alert">{{ say(found.state === "expired" ? "link.expired" : "link.replaced", { maker: found.made_by }) }}</p>
    </template>
    <template v-else>
      <h1>{{ say("link.title") }}</h1>
      <ProblemNote v-if="error" :error="error" />
      <p v-else class="soft">{{ say("link.looking") }}</p>
    </template>
  </GatePage>
</template>

<style scoped>
.unseen {
  display: none;
}
</style>
