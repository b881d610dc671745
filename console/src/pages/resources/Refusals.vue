<script setup lang="ts">
// Calls that protected APIs refused, each with its explanation one press away.
import { useRefusals } from "@/api/reads/resources";
import ExportList from "@/ui/ExportList.vue";
import Loadable from "@/ui/Loadable.vue";
import Moment from "@/ui/Moment.vue";
import StateWord from "@/ui/StateWord.vue";
import { whole } from "@/ui/use/export";
import { t } from "@/texts/sentences";

const props = defineProps<{ client: string }>();
defineEmits<{ explain: [resource: string, operation: string, object: string, kind: string] }>();
// As many as one call answers.
const MOST = 20;
const { data, error, isLoading, refetch } = useRefusals(() => props.client);
const WORDS: Record<string, string> = {
  reach: t`out of reach`,
  insufficient_scope: t`permission missing`,
  withdrawn: t`permission withdrawn`,
  revoked: t`token revoked`,
  "no-revocations": t`revocations not known yet`,
};
</script>

<template>
  <Loadable :loading="isLoading" :error="error" :ready="!!data" :lines="2" :retry="refetch">
    <p v-if="!data?.length" class="empty">No call was refused.</p>
    <table v-else class="log">
      <thead>
        <tr>
          <th scope="col">Last</th>
          <th scope="col">What it tried</th>
          <th scope="col">Refused because</th>
          <th scope="col" class="num">Calls</th>
          <th scope="col"></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="one in data" :key="`${one.resource}/${one.operation}/${one.reason}/${one.object}/${one.last_at}`">
          <td class="nowrap"><Moment :at="one.last_at" /></td>
          <td class="free">
            {{ one.title
            }}<template v-if="one.object"
              >: <code>{{ one.object }}</code></template
            >{{ " " }}
            <span class="soft small">{{ one.resource }}</span>
          </td>
          <td><StateWord tone="broken" :word="WORDS[one.reason] ?? one.reason" /></td>
          <td class="num">{{ one.calls }}</td>
          <td>
            <button type="button" class="link-button small" @click="$emit('explain', one.resource, one.operation, one.object, one.kind)">
              why
            </button>
          </td>
        </tr>
      </tbody>
    </table>
    <ExportList v-if="data?.length" name="refusals" what="these refusals" :read="() => whole(data)" />
    <p v-if="(data?.length ?? 0) >= MOST" class="soft small">The {{ MOST }} that were refused last are shown.</p>
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
