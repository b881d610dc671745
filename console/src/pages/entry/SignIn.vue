<script setup lang="ts">
import { NButton } from "naive-ui";
import { computed, nextTick, onMounted, ref } from "vue";
import { useRoute, useRouter } from "vue-router";
import { problemOf, wantsCode } from "@/api/problems";
import { offersPasskeys, showPasskey } from "@/api/passkeys";
import { REFUSALS } from "@/api/providers";
import { current, signIn, signInByPasskey } from "@/api/session";
import GatePage from "@/frame/GatePage.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { say } from "@/texts";
import Said from "@/texts/Said";
import CodeField from "./CodeField.vue";
import ProviderButtons from "./ProviderButtons.vue";

const LAST = "jamb.directory";
const route = useRoute();
const router = useRouter();
const login = ref("");
const password = ref("");
// A link to one directory, or one that this browser signed in to by name, stands there already.
const directory = ref(typeof route.query.directory === "string" ? route.query.directory : (localStorage.getItem(LAST) ?? ""));
// Wanted of who has a second factor, after the password was right.
const code = ref("");
const coded = ref(false);
const choices = ref<[string, string][]>([]);
const busy = ref(false);
const error = ref<unknown>(null);
const field = ref<HTMLInputElement | null>(null);
const chosen = ref<HTMLButtonElement[]>([]);
onMounted(() => field.value?.focus());

// Only addresses of our own: a path, never another host.
const onwardTo = (): string => {
  const then = route.query.then;
  return typeof then === "string" && /^\/(?!\/)/.test(then) ? then : "/";
};
const onward = (): Promise<unknown> => router.push(onwardTo());
// A provider sent somebody back without signing them in.
const turnedAway = computed(() => (REFUSALS.has(String(route.query.refused)) ? say(`sign_in.refused.${route.query.refused}`) : ""));

async function byPasskey(): Promise<void> {
  busy.value = true;
  error.value = null;
  try {
    await signInByPasskey(await showPasskey());
    await onward();
  } catch (problem) {
    error.value = problem;
  } finally {
    busy.value = false;
  }
}

async function enter(slug = directory.value.trim()): Promise<void> {
  busy.value = true;
  error.value = null;
  choices.value = [];
  try {
    await signIn(login.value, password.value, slug, code.value);
    if (slug) localStorage.setItem(LAST, slug);
    else localStorage.removeItem(LAST);
    await onward();
  } catch (problem) {
    const found = problemOf(problem).choices;
    if (found) {
      choices.value = Object.entries(found);
      await nextTick();
      chosen.value[0]?.focus();
      return;
    }
    if (wantsCode(problem) && !coded.value) {
      coded.value = true;
      return;
    }
    error.value = problem;
    if (coded.value) code.value = "";
    else password.value = "";
  } finally {
    busy.value = false;
  }
}
</script>

<template>
  <GatePage :width="400" beside>
    <h1>{{ say("sign_in.title") }}</h1>
    <p class="soft">{{ say("sign_in.for_whom") }}</p>
    <p v-if="turnedAway" role="alert">{{ turnedAway }}</p>
    <form class="stack" @submit.prevent="enter()">
      <label class="field">
        {{ say("all.login") }}
        <input ref="field" v-model="login" class="plain-input" name="login" type="email" autocomplete="username" required maxlength="200" />
      </label>
      <label class="field">
        {{ say("all.password") }}
        <input
          v-model="password"
          class="plain-input"
          name="password"
          type="password"
          autocomplete="current-password"
          required
          maxlength="200"
        />
      </label>
      <label class="field">
        {{ say("sign_in.directory") }} <span class="hint">{{ say("sign_in.directory_hint") }}</span>
        <input
          v-model="directory"
          class="plain-input mono"
          name="directory"
          autocomplete="organization"
          autocapitalize="none"
          spellcheck="false"
          maxlength="80"
        />
      </label>
      <CodeField v-if="coded" v-model="code" />
      <fieldset v-if="choices.length" class="choices">
        <legend>{{ say("sign_in.several") }}</legend>
        <button v-for="[slug, name] in choices" :key="slug" ref="chosen" type="button" class="choice" @click="enter(slug)">
          {{ name }} <code>{{ slug }}</code>
        </button>
      </fieldset>
      <ProblemNote v-if="error" :error="error" />
      <NButton type="primary" attr-type="submit" size="large" :loading="busy" :disabled="busy">{{ say("sign_in.title") }}</NButton>
      <NButton v-if="offersPasskeys()" size="large" :disabled="busy" @click="byPasskey">{{ say("sign_in.passkey") }}</NButton>
    </form>
    <!-- Somebody who is signed in elsewhere, and came to sign in here, too. -->
    <p v-if="current">
      <RouterLink :to="onwardTo()">{{ say("sign_in.back", { directory: current.directory_name }) }}</RouterLink>
    </p>
    <ProviderButtons :login="login" :directory="directory" :then="onwardTo()" />
    <Said text="sign_in.read_token" tag="p" class="soft small">
      <template #link
        ><RouterLink :to="{ name: 'token' }">{{ say("sign_in.read_token_link") }}</RouterLink></template
      >
    </Said>
  </GatePage>
</template>

<style scoped>
.choices {
  border: 0;
  padding: 0;
  margin: 0;
  min-width: 0;
  display: grid;
  gap: var(--s2);
}
.choices legend {
  margin-bottom: var(--s2);
  padding: 0;
}
.choice {
  font: inherit;
  text-align: left;
  display: flex;
  justify-content: space-between;
  align-items: baseline;
  gap: var(--s3);
  padding: var(--s2) var(--s3);
  border: 1px solid var(--line-strong);
  border-radius: var(--corner);
  background: var(--card);
  color: inherit;
  cursor: pointer;
}
.choice:hover,
.choice:focus-visible {
  outline: 2px solid var(--focus);
}
h1 {
  font-size: var(--t-h1);
  font-weight: 660;
  letter-spacing: -0.015em;
}
</style>
