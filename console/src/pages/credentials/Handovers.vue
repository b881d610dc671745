<script setup lang="ts">
// Links by which credentials of this client were handed over: what was seen, by whom, and tries that should not be.
import { api, must } from "@/api/client";
import { directory, useCan } from "@/api/session";
import { useHandovers } from "@/api/reads/credentials";
import { useStale } from "@/api/reads/directory";
import { useAttempt } from "@/ui/use/attempt";
import Moment from "@/ui/Moment.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import StateWord from "@/ui/StateWord.vue";
import { handoverTone, handoverWord } from "@/ui/use/states";
import { t } from "@/texts/sentences";

const can = useCan();
const props = defineProps<{ client: string }>();
const { data } = useHandovers(() => props.client);
const { error, attempt } = useAttempt();
const stale = useStale();

const takeBack = (handover: string) =>
  attempt(async () => {
    await must(
      api.POST("/api/v1/directories/{directory}/clients/{client}/handovers/{handover}/withdrawal", {
        params: { path: { directory: directory.value, client: props.client, handover } },
      }),
    );
    await stale();
  });
</script>

<template>
  <div v-if="data?.length" class="handed">
    <h3>Handed over by a link</h3>
    <ProblemNote v-if="error" :error="error" />
    <table class="log">
      <thead>
        <tr>
          <th scope="col">Credential</th>
          <th scope="col">Link</th>
          <th scope="col">Made</th>
          <th scope="col">Opened</th>
          <th scope="col">Runs out</th>
          <th scope="col"><span class="visually-hidden">Actions</span></th>
        </tr>
      </thead>
      <tbody v-for="one in data" :key="one.id">
        <tr>
          <td>
            <code>{{ one.hint }}</code>
          </td>
          <td><StateWord :tone="handoverTone[one.state] ?? 'gone'" :word="handoverWord(one.state)" /></td>
          <td>
            <Moment :at="one.made_at" />
            <div class="soft small">by {{ one.made_by }}</div>
          </td>
          <td>
            <Moment :at="one.opened_at" missing="not yet" />
            <div v-if="one.opened_from" class="soft small">from {{ one.opened_from }}</div>
          </td>
          <td><Moment :at="one.expires_at" /></td>
          <td class="right">
            <button v-if="one.state === 'waiting' && can('handovers.withdraw')" type="button" class="link-button" @click="takeBack(one.id)">
              Take back
            </button>
          </td>
        </tr>
        <tr v-if="one.late_tries">
          <td colspan="6" class="late">
            <strong>Tried {{ one.late_tries === 1 ? t`once` : t`${one.late_tries} times` }} more</strong> after it was gone, last
            <Moment :at="one.late_at" /> from {{ one.late_from }}: the link is in two hands. Ask who opened it, or withdraw the credential.
          </td>
        </tr>
      </tbody>
    </table>
  </div>
</template>

<style scoped>
.handed {
  margin-top: var(--s4);
}
.late {
  background: var(--broken-bg);
}
.right {
  text-align: right;
}
</style>
