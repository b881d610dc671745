<script setup lang="ts">
// The last token requests, the failed ones with what to do.
import { readAttempts, useAttempts } from "@/api/reads/clients";
import ExportList from "@/ui/ExportList.vue";
import Loadable from "@/ui/Loadable.vue";
import MoreRows from "@/ui/MoreRows.vue";
import Moment from "@/ui/Moment.vue";
import StateWord from "@/ui/StateWord.vue";
import { listed } from "@/texts/listed";

const props = defineProps<{ client: string }>();
const { data, items, error, isLoading, refetch, hasNextPage, isFetchingNextPage, fetchNextPage } = useAttempts(() => props.client);
</script>

<template>
  <Loadable :loading="isLoading" :error="error" :ready="!!data" :lines="2" :retry="refetch">
    <p v-if="!items.length" class="empty">No token request is on record.</p>
    <table v-else class="log">
      <thead>
        <tr>
          <th scope="col">When</th>
          <th scope="col">Ended</th>
          <th scope="col">What happened, and what to do</th>
          <th scope="col">From</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="one in items" :key="one.id">
          <td class="nowrap">
            <Moment :at="one.at" />
            <div v-if="one.times > 1" class="small soft">{{ one.times }} times in a minute</div>
          </td>
          <td>
            <StateWord :tone="one.outcome === 'issued' ? 'live' : 'broken'" :word="listed(one.outcome)" />
          </td>
          <td class="free">
            <template v-if="one.outcome === 'issued'"
              >Token with <code>{{ one.detail }}</code></template
            >
            <template v-else
              >{{ one.detail }}
              <div v-if="one.remedy">{{ one.remedy }}</div></template
            >
          </td>
          <td class="small soft nowrap">
            {{ one.address }}
            <div>{{ one.user_agent }}</div>
          </td>
        </tr>
      </tbody>
    </table>
    <MoreRows :shown="items.length" :more="hasNextPage" :busy="isFetchingNextPage" @more="fetchNextPage" />
    <ExportList v-if="items.length" name="attempts" what="all token requests" :read="(cursor) => readAttempts(client, cursor)" />
  </Loadable>
</template>

<style scoped>
.nowrap {
  white-space: nowrap;
}
.empty {
  border-top: 2px solid var(--line-strong);
  padding: var(--s3) 0;
}
</style>
