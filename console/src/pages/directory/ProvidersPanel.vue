<script setup lang="ts">
// Outside OpenID providers by which people of the directory sign in: see them, name one, try claims, remove one.
import { NButton } from "naive-ui";
import { computed, ref, useId } from "vue";
import { api, must, type Schemas } from "@/api/client";
import { useGroups, useProviders, useStale } from "@/api/reads/directory";
import { can, directory } from "@/api/session";
import CopyButton from "@/ui/CopyButton.vue";
import Loadable from "@/ui/Loadable.vue";
import Moment from "@/ui/Moment.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import TextField from "@/ui/forms/TextField.vue";
import { useAttempt } from "@/ui/use/attempt";
import { count } from "@/ui/use/words";
import { t } from "@/texts/sentences";

const { data, error: unread, isLoading, refetch } = useProviders();
const { data: groups } = useGroups();
const { busy, error, attempt } = useAttempt();
const stale = useStale();
const id = useId();
const empty = () => ({ name: "", title: "", issuer: "", client_id: "", secret: "", adds: false, claim: "groups", rows: [["", ""]] });
const draft = ref<ReturnType<typeof empty> | null>(null);
const held = ref(false);
const sure = ref("");
const trying = ref("");
const claims = ref('{\n  "sub": "1234",\n  "email": "name@domain",\n  "email_verified": true,\n  "groups": []\n}');
const found = ref<Schemas["WhoWouldSignIn"] | null>(null);
const backTo = computed(() => data.value?.[0]?.redirect_uri ?? `${window.location.origin}/d/${directory.value}/signed-in`);
const here = (provider: string) => ({ path: { directory: directory.value, provider } });

function open(one?: Schemas["SignInProvider"]): void {
  error.value = null;
  held.value = one?.has_secret ?? false;
  draft.value = one
    ? {
        name: one.name,
        title: one.title,
        issuer: one.issuer,
        client_id: one.client_id,
        secret: "",
        adds: one.adds_people,
        claim: one.groups_claim,
        rows: [...Object.entries(one.groups), ["", ""]],
      }
    : empty();
}
const save = () =>
  attempt(async () => {
    const wanted = draft.value!;
    const mapped = Object.fromEntries(wanted.rows.filter(([there, inside]) => there && inside));
    await must(
      api.PUT("/api/v1/directories/{directory}/providers/{provider}", {
        params: here(wanted.name),
        body: {
          title: wanted.title,
          issuer: wanted.issuer,
          client_id: wanted.client_id,
          secret: wanted.secret || null,
          adds_people: wanted.adds,
          groups_claim: wanted.claim,
          groups: mapped,
          reason: "",
        },
      }),
    );
    draft.value = null;
    await stale();
  });
const remove = (name: string) =>
  attempt(async () => {
    await must(api.DELETE("/api/v1/directories/{directory}/providers/{provider}", { params: here(name) }));
    sure.value = "";
    await stale();
  });
const tryOut = () =>
  attempt(async () => {
    found.value = null;
    found.value = await must(
      api.POST("/api/v1/directories/{directory}/providers/{provider}/trial", {
        params: here(trying.value),
        body: { claims: JSON.parse(claims.value) as Record<string, unknown> },
      }),
    );
  });
</script>

<template>
  <section class="stack" aria-labelledby="providers">
    <div class="part-head">
      <h2 id="providers">Sign-in providers <span class="hint">outside OpenID providers by which people sign in</span></h2>
      <NButton v-if="can('providers.save') && !draft" size="small" @click="open()">Add a provider</NButton>
    </div>
    <form v-if="draft" class="stack card" @submit.prevent="save">
      <TextField v-model="draft.name" label="Short name" hint="as head-office; it stays" :longest="60" />
      <TextField v-model="draft.title" label="Title" hint="people read: Sign in with …" :longest="60" />
      <TextField v-model="draft.issuer" label="Issuer" hint="by https, exactly as the provider writes it" :longest="400" />
      <TextField v-model="draft.client_id" label="Client id" hint="by which the provider knows this directory" :longest="200" />
      <label class="field"
        >Client secret <span class="hint">{{ held ? t`kept, sealed; leave empty to keep it` : t`if the provider gave one` }}</span><input
          v-model="draft.secret"
          class="plain-input"
          type="password"
          autocomplete="off"
          maxlength="500"
      /></label>
      <p class="small">
        The provider must know this redirect URI: <code class="long">{{ backTo }}</code> <CopyButton :value="backTo" what="redirect URI" />
      </p>
      <label class="check"><input v-model="draft.adds" type="checkbox" /> Add whoever it vouches for, without a role</label>
      <fieldset class="groups">
        <legend>Groups that it decides</legend>
        <TextField v-model="draft.claim" label="Claim" hint="that lists what somebody is in there" :longest="60" />
        <div v-for="(row, at) in draft.rows" :key="at" class="row">
          <label class="visually-hidden" :for="`${id}-there-${at}`">What it calls the group, {{ at + 1 }}</label>
          <input :id="`${id}-there-${at}`" v-model="row[0]" class="plain-input" maxlength="200" placeholder="What it calls the group" />
          <label class="visually-hidden" :for="`${id}-here-${at}`">Group here, {{ at + 1 }}</label>
          <select :id="`${id}-here-${at}`" v-model="row[1]" class="plain-input">
            <option value="">a group here</option>
            <option v-for="one in groups ?? []" :key="one.name" :value="one.name">{{ one.title || one.name }}</option>
          </select>
        </div>
        <div>
          <button type="button" class="link-button" @click="draft.rows.push(['', ''])">Another group</button>
        </div>
      </fieldset>
      <p class="small soft">Whoever runs the provider can sign in as everybody that it vouches for: another person must agree.</p>
      <ProblemNote v-if="error" :error="error" />
      <div class="row">
        <NButton @click="draft = null">Cancel</NButton>
        <NButton
          type="primary"
          attr-type="submit"
          :loading="busy"
          :disabled="busy || !draft.name.trim() || !draft.title.trim() || !draft.issuer.trim() || !draft.client_id.trim()"
          >Save the provider</NButton
        >
      </div>
    </form>
    <Loadable :loading="isLoading" :error="unread" :ready="!!data" :lines="2" :retry="refetch">
      <p v-if="!data?.length" class="soft">None: people sign in with a password or a passkey.</p>
      <table v-else class="log">
        <thead>
          <tr>
            <th scope="col">Provider</th>
            <th scope="col">Issuer</th>
            <th scope="col">People</th>
            <th scope="col">Groups by it</th>
            <th scope="col">Made</th>
            <th scope="col"><span class="visually-hidden">Change</span></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="one in data" :key="one.name">
            <td class="free">
              {{ one.title }}
              <div class="soft small">
                <code>{{ one.name }}</code>
              </div>
            </td>
            <td class="free">
              <code class="long">{{ one.issuer }}</code>
            </td>
            <td class="free small">
              {{ count(one.linked, "has signed in", "have signed in") }};
              {{ one.adds_people ? t`adds whoever it vouches for` : t`only who is here` }}
            </td>
            <td class="free small">
              {{
                Object.entries(one.groups)
                  .map((pair) => pair.join(" → "))
                  .join(", ") || t`none`
              }}
            </td>
            <td class="nowrap">
              <Moment :at="one.made_at" />
              <div class="soft small">by {{ one.made_by }}</div>
            </td>
            <td class="nowrap">
              <span v-if="sure !== one.name" class="row">
                <button type="button" class="link-button" @click="((trying = trying === one.name ? '' : one.name), (found = null))">
                  Try claims
                </button>
                <button v-if="can('providers.save')" type="button" class="link-button" @click="open(one)">Change</button>
                <button v-if="can('providers.remove')" type="button" class="link-button" @click="sure = one.name">Remove</button>
              </span>
              <span v-else class="row">
                <NButton size="small" @click="sure = ''">Cancel</NButton>
                <NButton size="small" type="error" :loading="busy" :disabled="busy" @click="remove(one.name)"
                  >Remove and sign people out</NButton
                >
              </span>
            </td>
          </tr>
        </tbody>
      </table>
    </Loadable>
    <form v-if="trying" class="stack card" @submit.prevent="tryOut">
      <label class="field"
        >Claims of an ID token <span class="hint">as JSON; nothing is kept</span
        ><textarea v-model="claims" class="plain-input mono" rows="7" spellcheck="false" />
      </label>
      <ProblemNote v-if="error" :error="error" />
      <p v-if="found" role="status">
        <template v-if="found.refused">Nobody would be signed in: {{ found.refused }}.</template>
        <template v-else>
          {{ found.added ? t`${found.login} would be signed in, and added.` : t`${found.login} would be signed in.` }} Joins:
          {{ found.joins.join(", ") || t`no group` }}. Leaves: {{ found.leaves.join(", ") || t`no group` }}. Roles then:
          {{ found.roles.join(", ") || t`none` }}.
        </template>
      </p>
      <div class="row">
        <NButton size="small" @click="trying = ''">Close</NButton>
        <NButton size="small" type="primary" attr-type="submit" :loading="busy" :disabled="busy">Try them</NButton>
      </div>
    </form>
    <ProblemNote v-if="error && !draft && !trying" :error="error" />
  </section>
</template>

<style scoped>
section {
  margin-bottom: var(--s5);
}
.part-head {
  display: flex;
  justify-content: space-between;
  align-items: center;
}
form {
  max-width: 720px;
}
.long {
  overflow-wrap: anywhere;
}
.check {
  display: flex;
  gap: var(--s2);
  align-items: center;
}
.groups {
  border: 0;
  padding: 0;
  margin: 0;
  display: grid;
  gap: var(--s2);
}
.groups legend {
  font-weight: 560;
  padding: 0;
}
.nowrap {
  white-space: nowrap;
}
</style>
