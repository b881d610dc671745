<script setup lang="ts">
// What people were told and how the mails fared; and the addresses that hear of everything.
import { NButton } from "naive-ui";
import { ref } from "vue";
import { type Schemas, api, must } from "@/api/client";
import { can, directory } from "@/api/session";
import { useStale } from "@/api/reads/directory";
import { useFailingDuties, useNotices, useWebhooks } from "@/api/reads/notices";
import { useAttempt } from "@/ui/use/attempt";
import CopyButton from "@/ui/CopyButton.vue";
import Moment from "@/ui/Moment.vue";
import MoreRows from "@/ui/MoreRows.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import FindWord from "@/ui/forms/FindWord.vue";
import StateWord from "@/ui/StateWord.vue";
import RecipientKey from "./RecipientKey.vue";
import { count } from "@/ui/use/words";

const word = ref("");
const { items: told, isSuccess: known, hasNextPage, isFetchingNextPage, fetchNextPage } = useNotices(word);
const { data: hooks } = useWebhooks();
const { data: failing } = useFailingDuties();
const url = ref("");
const key = ref("");
const sure = ref("");
const dead = ref<{ id: string; events: Schemas["DeadEvent"][] } | null>(null);
const { error, attempt } = useAttempt();
const stale = useStale();
const at = (webhook: string) => ({ params: { path: { directory: directory.value, webhook } } });

const change = (work: () => Promise<unknown>) =>
  attempt(async () => {
    await work();
    await stale();
  });
const add = () =>
  change(async () => {
    await must(
      api.POST("/api/v1/directories/{directory}/webhooks", {
        params: { path: { directory: directory.value } },
        body: { url: url.value.trim(), key: key.value.trim() },
      }),
    );
    url.value = key.value = "";
  });
const feed = ref("");
const makeCalendar = (whole: boolean) =>
  change(async () => {
    feed.value = (
      await must(
        api.POST("/api/v1/directories/{directory}/calendar", {
          params: { path: { directory: directory.value } },
          body: { whole },
        }),
      )
    ).url;
  });
const remove = (id: string) =>
  change(async () => {
    await must(api.DELETE("/api/v1/directories/{directory}/webhooks/{webhook}", at(id)));
    sure.value = "";
  });
const revive = (id: string) =>
  change(async () => {
    await must(api.POST("/api/v1/directories/{directory}/webhooks/{webhook}/revival", at(id)));
    dead.value = null;
  });
const look = (id: string) =>
  attempt(async () => {
    dead.value = { id, events: await must(api.GET("/api/v1/directories/{directory}/webhooks/{webhook}/dead", at(id))) };
  });
</script>

<template>
  <section aria-labelledby="notices">
    <h2 id="notices">Notices <span class="soft small">what people were told by mail, each thing once</span></h2>
    <div v-if="failing?.length" class="failing" role="status">
      <p><strong>Some of the service's work for this directory fails.</strong> Whoever runs the service finds more in its log.</p>
      <ul>
        <li v-for="one in failing" :key="one.duty">
          <StateWord tone="broken" :word="one.duty" /> failed {{ count(one.failures, "time", "times in a row") }} since
          <Moment :at="one.since" />: {{ one.error }}. Tried again <Moment :at="one.again_at" />.
        </li>
      </ul>
    </div>
    <FindWord v-if="told.length || word" v-model="word" label="Find a notice" :shown="told.length" :total="null" />
    <p v-if="known && !told.length && !word" class="empty">Nobody was told anything yet: it is looked every minute.</p>
    <table v-else-if="told.length" class="log">
      <thead>
        <tr>
          <th scope="col">Noted</th>
          <th scope="col">Person</th>
          <th scope="col">What</th>
          <th scope="col">Mail</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="one in told" :key="one.id">
          <td class="nowrap"><Moment :at="one.at" /></td>
          <td class="nowrap">{{ one.person }}</td>
          <td>
            <RouterLink :to="one.path">{{ one.words }}</RouterLink>
          </td>
          <td>
            <StateWord v-if="one.sent_at" tone="live" word="sent" />
            <template v-else-if="one.failed"
              ><StateWord tone="broken" word="given up" /> <span class="small soft">{{ one.error }}</span></template
            >
            <template v-else
              ><StateWord tone="wait" word="waits" /> <span v-if="one.error" class="small soft">{{ one.error }}</span></template
            >
          </td>
        </tr>
      </tbody>
    </table>
    <MoreRows :shown="told.length" :more="!!hasNextPage" :busy="isFetchingNextPage" @more="fetchNextPage()" />

    <p v-if="can('calendar.make')" class="row feed">
      <button type="button" class="link-button" @click="makeCalendar(false)">Make a calendar feed of my own clients</button>
      <button type="button" class="link-button" @click="makeCalendar(true)">… of the whole directory</button>
      <span v-if="feed"
        ><code>{{ feed }}</code> <CopyButton :value="feed" what="calendar address" />{{ " " }}
        <span class="soft small">Whoever has it reads it; making another ends it.</span></span
      >
    </p>

    <RecipientKey v-if="can('recipient-key.set')" />

    <h3>
      Webhooks
      <span class="soft small">addresses that hear of everything, by signed event tokens (RFC 8417, RFC 8935)</span>
    </h3>
    <ProblemNote v-if="error" :error="error" />
    <p v-if="hooks && !hooks.length" class="empty">No address hears of anything.</p>
    <table v-else-if="hooks" class="log">
      <thead>
        <tr>
          <th scope="col">Address</th>
          <th scope="col">Taken</th>
          <th scope="col">Waiting</th>
          <th scope="col">Given up</th>
          <th scope="col">Added</th>
          <th scope="col"><span class="visually-hidden">Actions</span></th>
        </tr>
      </thead>
      <tbody v-for="one in hooks" :key="one.id">
        <tr>
          <td>
            <code>{{ one.url }}</code>
            <div v-if="one.key_id" class="small soft">credentials can be sealed to its key {{ one.key_id.slice(0, 12) }}…</div>
            <div v-if="one.error" class="small soft">last try: {{ one.error }}</div>
          </td>
          <td>{{ one.sent }}</td>
          <td>{{ one.waiting }}</td>
          <td><StateWord v-if="one.dead" tone="broken" :word="String(one.dead)" /><template v-else>0</template></td>
          <td class="nowrap">
            <Moment :at="one.made_at" />
            <div class="small soft">by {{ one.made_by }}</div>
          </td>
          <td class="right nowrap">
            <span class="row">
              <button v-if="one.dead" type="button" class="link-button" @click="look(one.id)">See what was given up</button>
              <button v-if="can('webhooks.remove')" type="button" class="link-button" @click="sure = one.id">Remove</button>
            </span>
          </td>
        </tr>
        <tr v-if="sure === one.id">
          <td colspan="6" class="sure">
            <p>
              Remove <code>{{ one.url }}</code>? It hears of nothing more<template v-if="one.waiting + one.dead"
                >, and {{ one.waiting + one.dead }} events that it did not take are dropped</template
              >.
            </p>
            <div class="row">
              <NButton size="small" @click="sure = ''">Cancel</NButton
              ><NButton size="small" type="error" ghost @click="remove(one.id)">Remove it</NButton>
            </div>
          </td>
        </tr>
        <tr v-if="dead?.id === one.id">
          <td colspan="6" class="sure">
            <ul>
              <li v-for="event in dead.events.slice(0, 20)" :key="event.id">
                {{ event.words }} <span class="small soft">{{ event.tries }} tries: {{ event.failed }}</span>
              </li>
            </ul>
            <div class="row">
              <NButton size="small" @click="dead = null">Cancel</NButton
              ><NButton v-if="can('webhooks.revive')" size="small" type="primary" @click="revive(one.id)">Try them anew</NButton>
            </div>
          </td>
        </tr>
      </tbody>
    </table>
    <form v-if="can('webhooks.add')" class="row add" @submit.prevent="add">
      <label class="field"
        >An https address that takes them by POST
        <input v-model="url" class="plain-input" type="url" required maxlength="500" placeholder="https://desk.port.example/events"
      /></label>
      <label class="field"
        >Its public key <span class="hint">JWK or PEM, if credentials are to be sealed to it</span
        ><textarea v-model="key" class="plain-input" rows="1" spellcheck="false"></textarea>
      </label>
      <NButton attr-type="submit">Add the webhook</NButton>
    </form>
  </section>
</template>

<style scoped>
section {
  margin-bottom: var(--s6);
}
h3 {
  margin-top: var(--s5);
}
.nowrap {
  white-space: nowrap;
}
.right {
  text-align: right;
}
.right button + button {
  margin-left: var(--s3);
}
.failing {
  border-left: 4px solid var(--broken);
  background: var(--broken-bg);
  padding: var(--s3) var(--s4);
  margin-bottom: var(--s3);
  display: grid;
  gap: var(--s1);
}
.sure {
  background: var(--broken-bg);
}
.sure .row {
  margin-top: var(--s2);
}
.add {
  align-items: flex-end;
  margin-top: var(--s3);
}
.add .field {
  flex: 1;
  max-width: 460px;
}
.empty {
  border-top: 2px solid var(--line-strong);
  padding: var(--s4) 0;
}
code {
  overflow-wrap: anywhere;
}
</style>
