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
import { say } from "@/texts";
import Said from "@/texts/Said";
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

const pages = computed(() => {
  const named: [string, string | undefined][] = [
    [say("allow.home_page"), asked.value?.client_uri],
    [say("allow.privacy_policy"), asked.value?.policy_uri],
    [say("allow.terms_of_use"), asked.value?.tos_uri],
  ];
  return named.filter(([, address]) => address);
});

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
      <p role="status">{{ say("allow.on_to", { application: asked?.client_name }) }}</p>
    </form>
    <template v-else-if="!asked">
      <h1>{{ say(notAdmitted(error) ? "allow.not_for_you" : error ? "all.cannot" : "all.one_moment") }}</h1>
    </template>
    <template v-else-if="asked.sign_in === 'factor'">
      <h1>{{ say("allow.factor_wanted", { application: asked.client_name }) }}</h1>
      <Said text="allow.factor_how" tag="p">
        <template #person>{{ asked.person }}</template>
        <template #page
          ><RouterLink :to="{ name: 'password' }" target="_blank">{{ say("all.your_sign_in") }}</RouterLink></template
        >
      </Said>
      <div class="row">
        <span ref="decline"
          ><NButton type="primary" :disabled="busy" @click="attempt(() => answer(false))">{{ say("all.decline") }}</NButton></span
        >
        <NButton :loading="busy" :disabled="busy" @click="attempt(look)">{{ say("allow.factor_done") }}</NButton>
      </div>
    </template>
    <template v-else-if="asked.sign_in">
      <ClientLogo v-if="asked.logo" :logo="asked.logo" :slug="asked.directory" />
      <h1>{{ say("allow.sign_in", { application: asked.client_name }) }}</h1>
      <Said :text="asked.sign_in === 'again' ? 'allow.sure' : 'allow.account'" tag="p" class="soft">
        <template #directory>{{ asked.directory_name }}</template>
        <template #address
          ><strong>{{ asked.answered_at }}</strong></template
        >
      </Said>
      <form class="stack" @submit.prevent="attempt(enter)">
        <label class="field">
          {{ say("all.login") }}
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
        <CodeField v-if="coded" v-model="code" />
        <div class="row">
          <NButton type="primary" attr-type="submit" :loading="busy" :disabled="busy">{{ say("sign_in.title") }}</NButton>
          <NButton v-if="offersPasskeys()" :disabled="busy" @click="attempt(enterByPasskey)">{{ say("sign_in.passkey") }}</NButton>
        </div>
      </form>
      <ProviderButtons login="" :directory="asked.directory" :then="`/allow#${request}`" />
    </template>
    <template v-else>
      <ClientLogo v-if="asked.logo" :logo="asked.logo" :slug="asked.directory" />
      <h1>{{ say("allow.wants", { application: asked.client_name }) }}</h1>
      <p class="soft">
        {{ say("allow.you_are", { person: asked.person, directory: asked.directory_name }) }}
        <button type="button" class="link-button" @click="attempt(another)">{{ say("allow.not_you") }}</button>
      </p>
      <dl class="facts">
        <dt>{{ say("allow.purpose") }}</dt>
        <dd>{{ asked.purpose }}</dd>
        <dt>{{ say("allow.made_by") }}</dt>
        <dd v-if="asked.unlooked_at">
          <strong>{{ say("allow.unknown_maker", { directory: asked.directory_name }) }}</strong>
        </dd>
        <Said v-else :text="asked.publisher_vouched ? 'allow.vouched' : 'allow.not_vouched'" tag="dd">
          <template #maker>{{ asked.publisher || asked.directory_name }}</template>
          <template #warning
            ><strong>{{ say("allow.warning", { directory: asked.directory_name }) }}</strong></template
          >
        </Said>
        <template v-if="asked.support_contact">
          <dt>{{ say("allow.help") }}</dt>
          <dd>{{ asked.support_contact }}</dd>
        </template>
        <template v-if="pages.length">
          <dt>{{ say("allow.more") }}</dt>
          <dd>
            <template v-for="([name, address], place) in pages" :key="name"
              ><template v-if="place">, </template><a :href="address" target="_blank" rel="noopener noreferrer">{{ name }}</a></template
            >
          </dd>
        </template>
        <dt>{{ say("allow.sends_to") }}</dt>
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
        <span ref="decline"
          ><NButton type="primary" :disabled="busy" @click="attempt(() => answer(false))">{{ say("all.decline") }}</NButton></span
        >
        <NButton v-if="possible" :loading="busy" :disabled="busy" @click="attempt(() => answer(true))">{{
          say(chosen.length ? "allow.allow" : "allow.go_on")
        }}</NButton>
      </div>
    </template>
    <ProblemNote v-if="error" :error="error" />
    <div v-if="!asked && notAdmitted(error)">
      <NButton @click="attempt(() => answer(false))">{{ say("allow.back") }}</NButton>
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
