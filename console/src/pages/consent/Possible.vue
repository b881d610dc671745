<script setup lang="ts">
// What a consent makes possible, the dangerous first: the heart of every mail.
import { computed } from "vue";
import type { Schemas } from "@/api/client";
import { plural } from "@/texts/plural";
import { acting, count, grave } from "@/ui/use/words";
import { t } from "@/texts/sentences";
import { listed } from "@/texts/listed";

const props = defineProps<{ preview: Schemas["ConsentPreview"] }>();
type Place = Schemas["ConsentAtResource"];
const over = (place: Place, operation: string) => {
  const found = place.objects.find((one) => one.operation === operation);
  if (!found) return "–";
  if (!found.known) return t`all ${plural(place.object_name)}`;
  const size = t`${found.after} of ${count(found.known, place.object_name)}`;
  return found.before ? t`${size}, ${found.before} before` : size;
};
const dangerous = computed(() =>
  props.preview.resources.flatMap((place) => [...place.newly, ...place.wider].filter(grave).map((one) => ({ place, one }))),
);
</script>

<template>
  <p v-if="dangerous.length" class="danger">
    <strong><span aria-hidden="true">▲</span> {{ count(dangerous.length, "grave operation") }}:</strong>
    <span v-for="({ place, one }, at) in dangerous" :key="`${place.resource}/${place.kind}/${one.name}`"
      >{{ at ? "; " : " " }}{{ one.title.toLowerCase() }}
      <span class="soft"
        >({{ listed(one.effect) }}, {{ listed(one.data_class) }} data,
        {{ over(place, one.name) === "–" ? place.title : over(place, one.name) }})</span
      ></span
    >.
  </p>
  <template v-for="place in preview.resources" :key="`${place.resource}/${place.kind}`">
    <p v-if="!place.newly.length && !place.wider.length">
      At {{ place.title }}, acting {{ acting(place.kind, preview.person) }}: nothing new, all of it is possible already.
    </p>
    <table v-else class="log">
      <caption>
        At
        <strong>{{ place.title }}</strong>, acting
        {{
          acting(place.kind, preview.person)
        }},
        <strong>{{ place.reach.map((one) => one.words).join(" and ") }}</strong>:
        {{
          count(place.newly.length, "operation")
        }}
        that it cannot do today<template v-if="place.wider.length">, {{ place.wider.length }} over more than today</template
        >{{
          " "
        }}<span class="soft">(weight {{ place.added_weight }})</span>
      </caption>
      <thead>
        <tr>
          <th scope="col">Operation</th>
          <th scope="col">Effect</th>
          <th scope="col">Data</th>
          <th scope="col">Over how much</th>
          <th scope="col" class="num">Weight</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="one in [...place.newly, ...place.wider]" :key="one.name">
          <td>
            <strong v-if="grave(one)" class="grave"><span aria-hidden="true">▲</span> {{ one.title }}</strong
            ><template v-else>{{ one.title }}</template>
          </td>
          <td>{{ listed(one.effect) }}</td>
          <td>{{ listed(one.data_class) }}</td>
          <td>{{ over(place, one.name) }}</td>
          <td class="num">{{ one.weight }}</td>
        </tr>
      </tbody>
    </table>
    <p v-for="rule in place.rules" :key="rule" class="more">{{ rule }}</p>
    <p v-if="place.redundant.length" class="more">
      More than it seems to need: <code>{{ place.redundant.join(", ") }}</code> comes along with another permission here anyway.
    </p>
    <p v-if="place.implied.length" class="soft">
      Comes along, because it is implied: <code>{{ place.implied.join(", ") }}</code>
    </p>
    <p v-for="one in place.others.filter((other) => other.count)" :key="one.permission" class="soft">
      <code>{{ one.permission }}</code> is held too by {{ one.names.join(", ")
      }}<template v-if="one.count > one.names.length"> and {{ one.count - one.names.length }} more</template>.
    </p>
    <details v-if="place.unchanged.length" class="soft">
      <summary>{{ count(place.unchanged.length, "operation") }} it can do already stay as they are</summary>
      {{ place.unchanged.map((one) => one.title).join("; ") }}
    </details>
  </template>
  <p v-if="preview.acting?.length" class="soft">Who can act as it, and gains this: {{ preview.acting.join(", ") }}.</p>
</template>

<style scoped>
caption {
  text-align: left;
  padding-bottom: 5px;
}
.grave {
  color: var(--broken);
}
.grave span,
.danger strong span {
  font-size: 0.75em;
}
.danger {
  border-left: 4px solid var(--broken);
  background: var(--broken-bg);
  padding: var(--s2) var(--s3);
}
.danger strong {
  color: var(--broken);
}
.more {
  color: var(--wait);
}
</style>
