<script setup lang="ts">
// A client asks to act for whoever is signed in. Declining is the default; what needs no answer is gone through at once.
import { NButton } from "naive-ui";
import { computed, nextTick, onMounted, ref } from "vue";
import { type Schemas, api, must } from "@/api/client";
import { notAdmitted, wantsCode } from "@/api/problems";
import { offersPasskeys, showPasskey } from "@/api/passkeys";
import { broughtBack } from "@/api/providers";
import { current, refresh, signIn, signInByPasskey, signOut } from "@/api/session";
import GatePage from "@/frame/GatePage.vue";
import ClientLogo from "@/ui/ClientLogo.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { useAttempt } from "@/ui/use/attempt";
import { pagesOf } from "@/ui/use/words";
import AskAdministrator from "./AskAdministrator.vue";
import AskedList from "./AskedList.vue";
import CodeField from "./CodeField.vue";
import ProviderButtons from "./ProviderButtons.vue";

// It comes behind the #, which browsers keep to themselves: it reaches no log.
const request = window.location.hash.slice(1) || broughtBack();
const asked = ref<Schemas["AuthorizationAsked"] | null>(null);
const chosen = ref<string[]>([]);
const login = ref("");
const password = ref("");
// Wanted of who has a second factor, after the password was right.
const code = ref("");
const coded = ref(false);
const { busy, error, attempt: tried } = useAttempt();
const leaving = ref(false);
const decline = ref<HTMLElement | null>(null);
const field = ref<HTMLInputElement | null>(null);
// A client may want its answer as a form, which the service makes of this.
const sealed = ref("");
const carrier = ref<HTMLFormElement | null>(null);
const possible = computed(() => !!asked.value && (asked.value.already.length + chosen.value.length > 0 || !asked.value.resource));

const pages = computed(() => pagesOf(asked.value));

async function attempt(work: () => Promise<void>): Promise<void> {
  await tried(work);
  // What is disabled while it is busy takes no focus.
  await nextTick();
  if (!leaving.value && !coded.value)
    (asked.value?.sign_in && asked.value.sign_in !== "factor" ? field.value : decline.value?.querySelector("button"))?.focus();
}

type SentOn = Pick<Schemas["AuthorizationDecided"], "redirect_to" | "form">;
async function leave(there: SentOn): Promise<void> {
  leaving.value = true;
  if (there.redirect_to) return window.location.replace(there.redirect_to);
  sealed.value = there.form;
  await nextTick();
  carrier.value?.submit();
}

async function look(): Promise<void> {
  const found = await must(api.POST("/api/v1/authorizations/lookup", { body: { request } }));
  asked.value = found;
  chosen.value = found.to_allow.map((one) => one.permission);
  if (found.redirect_to || found.form) return leave(found);
  login.value ||= current.value?.person.login ?? found.login_hint;
  if (!found.sign_in && !found.asks) await answer(true);
}

async function answer(allow: boolean): Promise<void> {
  const permissions = allow ? chosen.value : [];
  await leave(await must(api.POST("/api/v1/authorizations/decision", { body: { request, allow, permissions } })));
}

async function enter(): Promise<void> {
  try {
    await signIn(login.value, password.value, asked.value?.directory ?? "", code.value);
  } catch (problem) {
    if (!wantsCode(problem) || coded.value) throw problem;
    coded.value = true;
    return;
  }
  password.value = code.value = "";
  coded.value = false;
  await look();
}

async function enterByPasskey(): Promise<void> {
  await signInByPasskey(await showPasskey());
  password.value = code.value = "";
  coded.value = false;
  await look();
}

async function another(): Promise<void> {
  await signOut();
  login.value = "";
  await look();
}

onMounted(() =>
  attempt(async () => {
    await refresh();
    await look();
  }),
);
</script>

<template>
  <GatePage :width="520">
    <form v-if="leaving" ref="carrier" method="post" :action="`/d/${asked?.directory}/answer`">
      <input type="hidden" name="answer" :value="sealed" />
      <p role="status">On to {{ asked?.client_name }}…</p>
    </form>
    <template v-else-if="!asked">
      <h1>{{ notAdmitted(error) ? "This is not for you" : error ? "This cannot be asked of you" : "One moment" }}</h1>
    </template>
    <template v-else-if="asked.sign_in === 'factor'">
      <h1>{{ asked.client_name }} wants a second factor</h1>
      <p>
        You are {{ asked.person }}, signed in with your password alone. Set a second factor up under
        <RouterLink :to="{ name: 'password' }" target="_blank">Your sign-in</RouterLink>, then go on here.
      </p>
      <div class="row">
        <span ref="decline"><NButton type="primary" :disabled="busy" @click="attempt(() => answer(false))">Decline</NButton></span>
        <NButton :loading="busy" :disabled="busy" @click="attempt(look)">I have set it up</NButton>
      </div>
    </template>
    <template v-else-if="asked.sign_in">
      <ClientLogo v-if="asked.logo" :logo="asked.logo" :slug="asked.directory" />
      <h1>Sign in for {{ asked.client_name }}</h1>
      <p class="soft">
        {{
          asked.sign_in === "again"
            ? "It wants to be sure that it is you: type your password once more."
            : `With your account of ${asked.directory_name}.`
        }}
        You are sent back to <strong>{{ asked.answered_at }}</strong> afterwards.
      </p>
      <form class="stack" @submit.prevent="attempt(enter)">
        <label class="field">
          Login
          <input
            ref="field"
            v-model="login"
            class="plain-input"
            name="login"
            type="email"
            autocomplete="username"
            required
            maxlength="200"
          />
        </label>
        <label class="field">
          Password
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
        <CodeField v-if="coded" v-model="code" />
        <div class="row">
          <NButton type="primary" attr-type="submit" :loading="busy" :disabled="busy">Sign in</NButton>
          <NButton v-if="offersPasskeys()" :disabled="busy" @click="attempt(enterByPasskey)">Sign in with a passkey</NButton>
        </div>
      </form>
      <ProviderButtons login="" :directory="asked.directory" :then="`/allow#${request}`" />
    </template>
    <template v-else>
      <ClientLogo v-if="asked.logo" :logo="asked.logo" :slug="asked.directory" />
      <h1>{{ asked.client_name }} wants to act for you</h1>
      <p class="soft">
        You are {{ asked.person }}, at {{ asked.directory_name }}.
        <button type="button" class="link-button" @click="attempt(another)">Not you?</button>
      </p>
      <dl class="facts">
        <dt>What it is for</dt>
        <dd>{{ asked.purpose }}</dd>
        <dt>Made by</dt>
        <dd v-if="asked.unlooked_at">
          <strong>Unknown: it registered itself, and nobody at {{ asked.directory_name }} has looked at it yet</strong>
        </dd>
        <dd v-else>
          {{ asked.publisher || asked.directory_name }}
          <strong v-if="!asked.publisher_vouched">: nobody at {{ asked.directory_name }} vouches for it</strong>
        </dd>
        <template v-if="asked.support_contact">
          <dt>Help</dt>
          <dd>{{ asked.support_contact }}</dd>
        </template>
        <template v-if="pages.length">
          <dt>More about it</dt>
          <dd>
            <template v-for="([name, address], place) in pages" :key="name"
              ><template v-if="place">, </template><a :href="address" target="_blank" rel="noopener noreferrer">{{ name }}</a></template
            >
          </dd>
        </template>
        <dt>Sends you to</dt>
        <dd>
          <code>{{ asked.answered_at }}</code>
        </dd>
      </dl>
      <AskedList v-model="chosen" :asked="asked" :directory="asked.directory_name">
        <template v-if="asked.requestable.length || asked.requested_until" #administrator>
          <AskAdministrator :asked="asked" :request="request" />
        </template>
      </AskedList>
      <div class="row">
        <span ref="decline"><NButton type="primary" :disabled="busy" @click="attempt(() => answer(false))">Decline</NButton></span>
        <NButton v-if="possible" :loading="busy" :disabled="busy" @click="attempt(() => answer(true))">{{
          chosen.length ? "Allow" : "Go on"
        }}</NButton>
      </div>
    </template>
    <ProblemNote v-if="error" :error="error" />
    <div v-if="!asked && notAdmitted(error)">
      <NButton @click="attempt(() => answer(false))">Back to the application</NButton>
    </div>
  </GatePage>
</template>

<style scoped>
h1 {
  font-size: var(--t-h1);
  font-weight: 660;
  letter-spacing: -0.015em;
}
</style>
