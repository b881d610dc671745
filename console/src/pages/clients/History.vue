<script setup lang="ts">
import { withMoments } from "@/ui/use/times";
import { changes, sentence } from "@/api/history";
import { readHistory, useHistory } from "@/api/reads/clients";
import ExportList from "@/ui/ExportList.vue";
import Loadable from "@/ui/Loadable.vue";
import MoreRows from "@/ui/MoreRows.vue";
import Moment from "@/ui/Moment.vue";

const props = defineProps<{ client: string }>();
const { data, items, error, isLoading, refetch, hasNextPage, isFetchingNextPage, fetchNextPage } = useHistory(() => props.client);
</script>

<template>
  <Loadable :loading="isLoading" :error="error" :ready="!!data" :lines="3" :retry="refetch">
    <table class="log">
      <thead>
        <tr>
          <th scope="col" class="num">Entry</th>
          <th scope="col">When</th>
          <th scope="col">Who did what</th>
          <th scope="col">Before and after</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="entry in items" :key="entry.sequence">
          <td class="num">{{ entry.sequence }}</td>
          <td class="nowrap"><Moment :at="entry.at" /></td>
          <td class="free">
            {{ entry.actor.name }} {{ sentence(entry) }}
            <div v-if="entry.reason" class="soft small">{{ entry.reason }}</div>
          </td>
          <td class="small free">
            <div v-for="change in changes(entry)" :key="change.name">
              <span class="soft">{{ change.name }}:</span>{{ " " }}
              <template v-if="change.before">{{ withMoments(change.before) }} → </template>{{ withMoments(change.after) }}
            </div>
          </td>
        </tr>
      </tbody>
    </table>
    <MoreRows :shown="items.length" :more="hasNextPage" :busy="isFetchingNextPage" @more="fetchNextPage" />
    <ExportList v-if="items.length" name="history" what="its whole history" :read="(cursor) => readHistory(client, cursor)" />
  </Loadable>
</template>

<style scoped>
.nowrap {
  white-space: nowrap;
}
</style>
