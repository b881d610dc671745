<script setup lang="ts">
// Where one is signed in: seen, and ended.
import { NButton } from "naive-ui";
import { computed, ref } from "vue";
import { useQuery, useQueryClient } from "@tanstack/vue-query";
import { type Schemas, api, must } from "@/api/client";
import { useAttempt } from "@/ui/use/attempt";
import { agentWords } from "@/ui/use/agent";
import Loadable from "@/ui/Loadable.vue";
import Moment from "@/ui/Moment.vue";
import ProblemNote from "@/ui/ProblemNote.vue";

const KEY = ["own", "sign-ins"];
const queries = useQueryClient();
const {
  data,
  error: unread,
  isLoading,
  refetch,
} = useQuery({
  queryKey: KEY,
  queryFn: () => must(api.GET("/api/v1/session/sign-ins")),
});
const others = computed(() => (data.value?.total ?? 0) - (data.value?.sign_ins.some((one) => one.here) ? 1 : 0));
const asking = ref(false);
const said = ref("");
const { busy, error, attempt } = useAttempt();

const name = (one: Schemas["OwnSignIn"]): string => (one.kind === "browser" ? agentWords(one.user_agent) : "Command line");

async function end(one: Schemas["OwnSignIn"]): Promise<void> {
  await attempt(async () => {
    await must(api.DELETE("/api/v1/session/sign-ins/{sign_in}", { params: { path: { sign_in: one.id } } }));
    said.value = `${name(one)} is signed out.`;
    await queries.invalidateQueries({ queryKey: KEY });
  });
}

async function endOthers(): Promise<void> {
  await attempt(async () => {
    const { ended } = await must(api.DELETE("/api/v1/session/sign-ins"));
    said.value = ended === 1 ? "One other sign-in has ended." : `${ended} other sign-ins have ended.`;
    asking.value = false;
    await queries.invalidateQueries({ queryKey: KEY });
  });
}
</script>

<template>
  <h2>Sign-ins</h2>
  <p v-if="said" role="status">{{ said }}</p>
  <ProblemNote v-if="error" :error="error" />
  <Loadable :loading="isLoading" :error="unread" :ready="!!data" :retry="refetch">
    <table class="log">
      <thead>
        <tr>
          <th scope="col">Where</th>
          <th scope="col">From</th>
          <th scope="col">Since</th>
          <th scope="col">Last used</th>
          <th scope="col">Until, at most</th>
          <th scope="col"><span class="visually-hidden">End it</span></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="one in data?.sign_ins" :key="one.id">
          <td class="free">
            {{ name(one) }}
            <div v-if="one.here" class="soft small">this one</div>
          </td>
          <td>
            <code v-if="one.address">{{ one.address }}</code><span v-else class="soft">not known</span>
          </td>
          <td><Moment :at="one.since" /></td>
          <td><Moment v-if="one.seen_at" :at="one.seen_at" /><span v-else class="soft">not known</span></td>
          <td><Moment :at="one.stays_until" /></td>
          <td>
            <NButton v-if="!one.here" size="small" :disabled="busy" :aria-label="`End the sign-in ${name(one)}`" @click="end(one)"
              >End</NButton
            >
          </td>
        </tr>
      </tbody>
    </table>
    <p v-if="data && data.total > data.sign_ins.length" class="soft">
      {{ data.total - data.sign_ins.length }} more are not shown; “End all others” ends them too.
    </p>
  </Loadable>
  <div v-if="others > 0" class="row others">
    <template v-if="asking">
      <span>Sign out everywhere but here?</span>
      <NButton size="small" @click="asking = false">Cancel</NButton>
      <NButton size="small" type="error" :disabled="busy" @click="endOthers">End all others now</NButton>
    </template>
    <NButton v-else size="small" @click="asking = true">End all others</NButton>
  </div>
</template>

<style scoped>
.others {
  margin-top: var(--s3);
}
</style>
