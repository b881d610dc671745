<script setup lang="ts">
// What clients do for whoever is signed in: seen, and ended.
import { NButton } from "naive-ui";
import { ref } from "vue";
import { useQuery, useQueryClient } from "@tanstack/vue-query";
import { api, must } from "@/api/client";
import Loadable from "@/ui/Loadable.vue";
import Moment from "@/ui/Moment.vue";
import PageHead from "@/ui/PageHead.vue";
import ProblemNote from "@/ui/ProblemNote.vue";

// As many as the service tells.
const MOST = 200;
const KEY = ["own", "authorizations"];
const queries = useQueryClient();
const { data, error, isLoading, refetch } = useQuery({
  queryKey: KEY,
  queryFn: () => must(api.GET("/api/v1/session/authorizations")),
});
const asking = ref("");
const ended = ref("");
const failed = ref<unknown>(null);

async function end(id: string, name: string): Promise<void> {
  failed.value = null;
  try {
    await must(api.DELETE("/api/v1/session/authorizations/{authorization}", { params: { path: { authorization: id } } }));
    ended.value = `${name} does nothing for you any more.`;
    asking.value = "";
    await queries.invalidateQueries({ queryKey: KEY });
  } catch (problem) {
    failed.value = problem;
  }
}
</script>

<template>
  <PageHead title="Your applications" lead="What you let act for you, and until when" />
  <p v-if="ended" role="status">{{ ended }}</p>
  <ProblemNote v-if="failed" :error="failed" />
  <Loadable :loading="isLoading" :error="error" :ready="!!data" :retry="refetch">
    <p v-if="!data?.length" class="empty">No application acts for you.</p>
    <table v-else class="log">
      <thead>
        <tr>
          <th scope="col">Application</th>
          <th scope="col">What it may do for you</th>
          <th scope="col">Since</th>
          <th scope="col">Last used</th>
          <th scope="col">Until, at most</th>
          <th scope="col"><span class="visually-hidden">End it</span></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="one in data" :key="one.id">
          <td class="free">
            {{ one.client_name }}
            <div v-if="one.publisher" class="soft small">by {{ one.publisher }}</div>
          </td>
          <td class="free">
            <template v-if="one.permissions.length"
              >{{ one.permissions.map((part) => part.title).join(", ") }} <span class="soft">at {{ one.resource }}</span></template
            >
            <span v-else class="soft">Knows who you are</span>
          </td>
          <td><Moment :at="one.since" /></td>
          <td><Moment v-if="one.last_used_at" :at="one.last_used_at" /><span v-else class="soft">not seen</span></td>
          <td><Moment :at="one.stays_until" /></td>
          <td>
            <div v-if="asking === one.id" class="row">
              <NButton size="small" @click="asking = ''">Cancel</NButton>
              <NButton size="small" type="error" @click="end(one.id, one.client_name)">End it now</NButton>
            </div>
            <NButton v-else size="small" @click="asking = one.id">End</NButton>
          </td>
        </tr>
      </tbody>
    </table>
    <p v-if="data && data.length >= MOST" class="soft">The newest {{ MOST }} are shown; end some to see those before.</p>
  </Loadable>
</template>
