<script setup lang="ts">
// What a client asks of a person, in words for them: what they may allow, and why the rest is not theirs to allow.
import { computed } from "vue";
import type { Schemas } from "@/api/client";
import { say } from "@/texts";

type Asked = Pick<
  Schemas["AuthorizationAsked"],
  "resource" | "already" | "to_allow" | "for_administrator" | "not_theirs" | "about" | "stays"
>;
const props = defineProps<{ asked: Asked; directory?: string }>();
const chosen = defineModel<string[]>({ required: true });
const LEARNS = new Set(["profile", "email", "groups"]);
const asks = (one: Schemas["AskedOfPerson"]): string =>
  one.where ? say("wishes.at_place", { permission: one.title, place: one.where }) : one.title;
const learns = computed(() => props.asked.about.map((one) => (LEARNS.has(one) ? say(`wishes.about.${one}`) : one)));
</script>

<template>
  <div class="stack">
    <fieldset v-if="asked.to_allow.length" class="stack parts">
      <legend>{{ say("wishes.would_like", { resource: asked.resource }) }}</legend>
      <label v-for="one in asked.to_allow" :key="one.permission" class="part">
        <input v-model="chosen" type="checkbox" :value="one.permission" />
        <span
          >{{ asks(one) }}<span v-if="one.text" class="soft small">{{ one.text }}</span></span
        >
      </label>
    </fieldset>
    <section v-if="asked.already.length">
      <h2>{{ say("wishes.already") }}</h2>
      <ul>
        <li v-for="one in asked.already" :key="one.permission">{{ asks(one) }}</li>
      </ul>
    </section>
    <section v-if="asked.for_administrator.length">
      <h2>{{ say("wishes.administrator") }}</h2>
      <ul>
        <li v-for="one in asked.for_administrator" :key="one.permission">{{ asks(one) }}</li>
      </ul>
      <slot name="administrator" />
      <p v-if="!$slots.administrator" class="soft small">
        {{ directory ? say("wishes.ask_at", { directory }) : say("wishes.ask_here") }}
      </p>
    </section>
    <section v-if="asked.not_theirs.length">
      <h2>{{ say("wishes.not_yours") }}</h2>
      <ul>
        <li v-for="one in asked.not_theirs" :key="one.permission">{{ asks(one) }}</li>
      </ul>
    </section>
    <p v-if="learns.length">{{ say("wishes.learns", { what: learns.join(", ") }) }}</p>
    <p v-if="asked.stays" class="soft">{{ say("wishes.stays") }}</p>
  </div>
</template>

<style scoped>
h2 {
  font-size: inherit;
  font-weight: 560;
  margin: 0;
}
ul {
  margin: var(--s1) 0 0;
  padding-left: 18px;
  list-style: disc;
}
.parts {
  border: 0;
  padding: 0;
  margin: 0;
  min-width: 0;
}
.parts legend {
  font-weight: 560;
  padding: 0;
  margin-bottom: var(--s2);
}
.part {
  display: grid;
  grid-template-columns: auto 1fr;
  gap: var(--s2);
  align-items: start;
}
.part .small {
  display: block;
}
</style>
