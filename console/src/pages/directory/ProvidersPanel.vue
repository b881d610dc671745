<script setup lang="ts">
// Outside OpenID providers by which people of the directory sign in: see them, name one, try claims, remove one.
import { NButton } from "naive-ui";
import { computed, ref } from "vue";
import { api, must, type Schemas } from "@/api/client";
import { ApiError, problemFrom } from "@/api/problems";
import { useProviders, useStale } from "@/api/reads/directory";
import { can, directory } from "@/api/session";
import Loadable from "@/ui/Loadable.vue";
import Moment from "@/ui/Moment.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { useAttempt } from "@/ui/use/attempt";
import { count } from "@/ui/use/words";
import { t } from "@/texts/sentences";
import ProviderForm from "./ProviderForm.vue";

const { data, error: unread, isLoading, refetch } = useProviders();
const { busy, error, attempt } = useAttempt();
const stale = useStale();
const form = ref<{ of?: Schemas["SignInProvider"] } | null>(null);
const sure = ref("");
const trying = ref("");
const claims = ref('{\n  "sub": "1234",\n  "email": "name@domain",\n  "email_verified": true,\n  "groups": []\n}');
const found = ref<Schemas["WhoWouldSignIn"] | null>(null);
const backTo = computed(() => data.value?.[0]?.redirect_uri ?? `${window.location.origin}/d/${directory.value}/signed-in`);
const here = (provider: string) => ({ path: { directory: directory.value, provider } });

const remove = (name: string) =>
  attempt(async () => {
    await must(api.DELETE("/api/v1/directories/{directory}/providers/{provider}", { params: here(name) }));
    sure.value = "";
    await stale();
  });
function turnTo(name: string): void {
  trying.value = name;
  found.value = error.value = null;
}
function readClaims(text: string): Record<string, unknown> {
  try {
    return JSON.parse(text) as Record<string, unknown>;
  } catch (problem) {
    const detail = t`The claims are not JSON: ${(problem as Error).message}`;
    throw new ApiError(problemFrom({ title: t`Not JSON`, detail }, 400));
  }
}
const tryOut = () =>
  attempt(async () => {
    found.value = null;
    found.value = await must(
      api.POST("/api/v1/directories/{directory}/providers/{provider}/trial", {
        params: here(trying.value),
        body: { claims: readClaims(claims.value) },
      }),
    );
  });
</script>

<template>
  <section class="stack" aria-labelledby="providers">
    <div class="part-head">
      <h2 id="providers">Sign-in providers <span class="hint">outside OpenID providers by which people sign in</span></h2>
      <NButton v-if="can('providers.save') && !form" size="small" @click="form = {}">Add a provider</NButton>
    </div>
    <ProviderForm v-if="form" :key="form.of?.name ?? ''" :provider="form.of" :back-to="backTo" @done="form = null" />
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
                <button type="button" class="link-button" @click="turnTo(trying === one.name ? '' : one.name)">Try claims</button>
                <button v-if="can('providers.save')" type="button" class="link-button" @click="form = { of: one }">Change</button>
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
        <template v-if="found.refused">Nobody would be signed in: {{ found.why }}.</template>
        <template v-else>
          {{ found.added ? t`${found.login} would be signed in, and added.` : t`${found.login} would be signed in.` }} Joins:
          {{ found.joins.join(", ") || t`no group` }}. Leaves: {{ found.leaves.join(", ") || t`no group` }}. Roles then:
          {{ found.roles.join(", ") || t`none` }}.
        </template>
      </p>
      <div class="row">
        <NButton size="small" @click="turnTo('')">Close</NButton>
        <NButton size="small" type="primary" attr-type="submit" :loading="busy" :disabled="busy">Try them</NButton>
      </div>
    </form>
    <ProblemNote v-if="error && !trying" :error="error" />
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
.nowrap {
  white-space: nowrap;
}
</style>
