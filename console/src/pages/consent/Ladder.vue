<script setup lang="ts">
// One row per permission; asked, granted, used. The gaps speak: waiting, drift, excess. Rows unfold to operations.
import { ref } from "vue";
import type { Schemas } from "@/api/client";
import { useCan } from "@/api/session";
import Moment from "@/ui/Moment.vue";
import StateWord from "@/ui/StateWord.vue";
import UseBars from "@/ui/charts/UseBars.vue";
import { acting } from "@/ui/use/words";
import ChangeReach from "./ChangeReach.vue";
import DropAsk from "./DropAsk.vue";
import EndConsent from "./EndConsent.vue";
import { t } from "@/texts/sentences";
import { listed } from "@/texts/listed";

const can = useCan();
type Rung = Schemas["Rung"];
type Place = Schemas["ResourceLadder"];
defineProps<{ client: string; resources: Place[] }>();
const open = ref<string[]>([]);
const key = (place: Place, rung: Rung) => `${place.resource}/${rung.permission}/${rung.kind}`;
const flip = (name: string) => (open.value = open.value.includes(name) ? open.value.filter((one) => one !== name) : [...open.value, name]);
const consented = (rung: Rung) => rung.holdings.some((one) => !one.through);
const operations = (place: Place, rung: Rung) => place.operations.filter((one) => rung.opens.includes(one.name));
</script>

<template>
  <p v-if="!resources.length" class="empty">It asks for nothing yet. Ask for the permissions that unlock what it must do.</p>
  <table v-else class="log">
    <colgroup>
      <col class="c1" />
      <col class="c2" />
      <col class="c3" />
      <col class="c4" />
    </colgroup>
    <thead>
      <tr>
        <th scope="col">Permission</th>
        <th scope="col">Asked</th>
        <th scope="col">Granted</th>
        <th scope="col">Used</th>
      </tr>
    </thead>
    <tbody v-for="place in resources" :key="place.resource">
      <tr class="place">
        <th colspan="4" scope="rowgroup" class="free">
          {{ place.title }} <code class="soft">{{ place.identifier }}</code>
          <div v-if="place.uncounted_until" class="soft small uncounted">
            Calls before <Moment :at="place.uncounted_until" /> may not have been counted, so nothing is called unused by them.
          </div>
        </th>
      </tr>
      <template v-for="rung in place.rungs" :key="key(place, rung)">
        <tr>
          <td class="free">
            <button type="button" class="unfold" :aria-expanded="open.includes(key(place, rung))" @click="flip(key(place, rung))">
              <span aria-hidden="true">{{ open.includes(key(place, rung)) ? "▾" : "▸" }}</span>{{ " " }}
              <code>{{ rung.permission }}</code>
            </button>
            <div class="soft small">{{ rung.title }}, {{ acting(rung.kind) }}</div>
          </td>
          <td>
            <template v-if="rung.asked_at"
              ><Moment :at="rung.asked_at" />
              <div class="soft small">by {{ rung.asked_by }}</div></template
            >
            <StateWord v-else tone="wait" word="never asked" />
          </td>
          <td>
            <template v-if="rung.granted_at">
              <Moment :at="rung.granted_at" />
              <div v-for="held in rung.holdings" :key="`${held.granted_at}/${held.person}/${held.through}`" class="small">
                <span :class="held.reach.kind === 'everywhere' ? 'soft' : 'bounded'">{{ held.reach.words }}</span><span class="soft"
                  ><template v-if="held.through">, by the role {{ held.through }}</template
                  ><template v-else>, by {{ held.granted_by }}</template
                  ><template v-if="held.person">, for {{ held.person }}<template v-if="held.by_person">, who consented</template></template
                  ><template v-if="held.expires_at">, expires <Moment :at="held.expires_at" /></template
                ></span>
              </div>
            </template>
            <StateWord v-else tone="wait" word="waits for consent" />
          </td>
          <td>
            <div v-if="rung.used === 'used'" class="used">
              <UseBars :calls="rung.calls" />
              <span class="small"
                ><Moment :at="rung.last_used_at" />, {{ rung.used_operations.length }} of {{ rung.opens.length }} operations</span
              >
            </div>
            <StateWord v-else-if="rung.used === 'never'" tone="broken" word="never" />
            <span v-else-if="rung.used === 'lapsed'"
              ><StateWord tone="broken" word="not lately" /> <span class="small soft"><Moment :at="rung.last_used_at" /></span
            ></span>
            <span v-else-if="rung.used === 'too-early'" class="soft">too early to say</span>
            <span v-else class="soft">–</span>
          </td>
        </tr>
        <tr v-if="open.includes(key(place, rung))" class="unfolded">
          <td colspan="4">
            <div class="row acts">
              <EndConsent v-if="consented(rung) && can('consent.withdraw')" :client="client" :resource="place.resource" :rung="rung" />
              <template v-if="place.object_name && can('consent.change-reach')">
                <ChangeReach
                  v-for="held in rung.holdings.filter((one) => !one.through)"
                  :key="held.person"
                  :client="client"
                  :resource="place.resource"
                  :rung="rung"
                  :held="held"
                />
              </template>
              <DropAsk v-if="rung.ask_id && can('asks.drop')" :client="client" :rung="rung" />
            </div>
            <p v-if="rung.asked_at && rung.wished.kind !== 'everywhere'" class="soft small">Asked for {{ rung.wished.words }}</p>
            <p v-if="rung.reason" class="soft small">Reason given: {{ rung.reason }}</p>
            <ul>
              <li v-for="one in operations(place, rung)" :key="one.name">
                <span class="mark" :class="{ on: rung.used_operations.includes(one.name) }">{{
                  rung.used_operations.includes(one.name) ? t`● used` : t`○ not used`
                }}</span>
                {{ one.title }} <code class="soft">{{ one.method }} {{ one.path }}</code
                >{{ " " }}
                <span class="soft small">{{ listed(one.effect) }}, {{ listed(one.data_class) }}, weight {{ one.weight }}</span>
              </li>
            </ul>
          </td>
        </tr>
      </template>
    </tbody>
  </table>
</template>

<style scoped>
table {
  table-layout: fixed;
}
.place th {
  white-space: normal;
  color: var(--ink);
  font-weight: 640;
  font-size: var(--t-body);
  padding-top: var(--s3);
  border-bottom: 1px solid var(--line);
}
.c1 {
  width: 31%;
}
.c2 {
  width: 18%;
}
.c3 {
  width: 20%;
}
.unfold {
  all: unset;
  cursor: pointer;
  font-weight: 560;
  padding: 2px 0;
  overflow-wrap: anywhere;
}
.unfold:focus-visible {
  outline: 2px solid var(--focus);
  outline-offset: 2px;
}
.used {
  display: flex;
  gap: var(--s3);
  align-items: center;
  flex-wrap: wrap;
}
.bounded {
  font-weight: 560;
}
.acts {
  align-items: flex-start;
  margin-bottom: var(--s2);
}
.unfolded td {
  background: var(--sunk);
}
.unfolded li {
  padding: 2px 0 2px 16px;
}
.mark {
  display: inline-block;
  width: 84px;
  color: var(--ink-soft);
  font-size: var(--t-small);
}
.mark.on {
  color: var(--live);
  font-weight: 560;
}
.empty {
  border-top: 2px solid var(--line-strong);
  padding: var(--s4) 0;
}
</style>
