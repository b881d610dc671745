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
import { say } from "@/texts";

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
const told = ref("");
const { busy, error, attempt } = useAttempt();

const name = (one: Schemas["OwnSignIn"]): string => (one.kind === "browser" ? agentWords(one.user_agent) : say("sign_ins.command_line"));

async function end(one: Schemas["OwnSignIn"]): Promise<void> {
  await attempt(async () => {
    await must(api.DELETE("/api/v1/session/sign-ins/{sign_in}", { params: { path: { sign_in: one.id } } }));
    told.value = say("sign_ins.signed_out", { where: name(one) });
    await queries.invalidateQueries({ queryKey: KEY });
  });
}

async function endOthers(): Promise<void> {
  await attempt(async () => {
    const { ended } = await must(api.DELETE("/api/v1/session/sign-ins"));
    told.value = say("sign_ins.ended", { count: ended });
    asking.value = false;
    await queries.invalidateQueries({ queryKey: KEY });
  });
}
</script>

<template>
  <h2>{{ say("sign_ins.title") }}</h2>
  <p v-if="told" role="status">{{ told }}</p>
  <ProblemNote v-if="error" :error="error" />
  <Loadable :loading="isLoading" :error="unread" :ready="!!data" :retry="refetch">
    <table class="log">
      <thead>
        <tr>
          <th scope="col">{{ say("sign_ins.where") }}</th>
          <th scope="col">{{ say("sign_ins.from") }}</th>
          <th scope="col">{{ say("all.since") }}</th>
          <th scope="col">{{ say("all.last_used") }}</th>
          <th scope="col">{{ say("all.until") }}</th>
          <th scope="col">
            <span class="visually-hidden">{{ say("all.end_it") }}</span>
          </th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="one in data?.sign_ins" :key="one.id">
          <td class="free">
            {{ name(one) }}
            <div v-if="one.here" class="soft small">{{ say("sign_ins.this_one") }}</div>
          </td>
          <td>
            <code v-if="one.address">{{ one.address }}</code><span v-else class="soft">{{ say("all.not_known") }}</span>
          </td>
          <td><Moment :at="one.since" /></td>
          <td>
            <Moment v-if="one.seen_at" :at="one.seen_at" /><span v-else class="soft">{{ say("all.not_known") }}</span>
          </td>
          <td><Moment :at="one.stays_until" /></td>
          <td>
            <NButton
              v-if="!one.here"
              size="small"
              :disabled="busy"
              :aria-label="say('sign_ins.end_this', { where: name(one) })"
              @click="end(one)"
              >{{ say("all.end") }}</NButton
            >
          </td>
        </tr>
      </tbody>
    </table>
    <p v-if="data && data.total > data.sign_ins.length" class="soft">
      {{ say("sign_ins.more", { count: data.total - data.sign_ins.length }) }}
    </p>
  </Loadable>
  <div v-if="others > 0" class="row others">
    <template v-if="asking">
      <span>{{ say("sign_ins.sure") }}</span>
      <NButton size="small" @click="asking = false">{{ say("all.cancel") }}</NButton>
      <NButton size="small" type="error" :disabled="busy" @click="endOthers">{{ say("sign_ins.end_all_now") }}</NButton>
    </template>
    <NButton v-else size="small" @click="asking = true">{{ say("sign_ins.end_all") }}</NButton>
  </div>
</template>

<style scoped>
.others {
  margin-top: var(--s3);
}
</style>
