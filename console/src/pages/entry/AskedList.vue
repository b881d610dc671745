<script setup lang="ts">
// What a client asks of a person, in words for them: what they may allow, and why the rest is not theirs to allow.
import { computed } from "vue";
import type { Schemas } from "@/api/client";

type Asked = Pick<
  Schemas["AuthorizationAsked"],
  "resource" | "already" | "to_allow" | "for_administrator" | "not_theirs" | "about" | "stays"
>;
const props = defineProps<{ asked: Asked; directory?: string }>();
const chosen = defineModel<string[]>({ required: true });
const LEARNS: Record<string, string> = {
  profile: "your name and login",
  email: "your mail address",
  groups: "the groups you belong to",
};
const said = (one: Schemas["AskedOfPerson"]): string => (one.where ? `${one.title}, ${one.where}` : one.title);
const learns = computed(() => props.asked.about.map((one) => LEARNS[one] ?? one));
</script>

<template>
  <div class="stack">
    <fieldset v-if="asked.to_allow.length" class="stack parts">
      <legend>At {{ asked.resource }} it would like to</legend>
      <label v-for="one in asked.to_allow" :key="one.permission" class="part">
        <input v-model="chosen" type="checkbox" :value="one.permission" />
        <span
          >{{ said(one) }}<span v-if="one.text" class="soft small">{{ one.text }}</span></span
        >
      </label>
    </fieldset>
    <section v-if="asked.already.length">
      <h2>It may already</h2>
      <ul>
        <li v-for="one in asked.already" :key="one.permission">{{ said(one) }}</li>
      </ul>
    </section>
    <section v-if="asked.for_administrator.length">
      <h2>Only an administrator can allow</h2>
      <ul>
        <li v-for="one in asked.for_administrator" :key="one.permission">{{ said(one) }}</li>
      </ul>
      <slot name="administrator" />
      <p v-if="!$slots.administrator" class="soft small">
        Ask whoever looks after applications {{ directory ? `at ${directory}` : "here" }}, and start again when it is allowed.
      </p>
    </section>
    <section v-if="asked.not_theirs.length">
      <h2>You may not do this yourself, so neither may it</h2>
      <ul>
        <li v-for="one in asked.not_theirs" :key="one.permission">{{ said(one) }}</li>
      </ul>
    </section>
    <p v-if="learns.length">It learns {{ learns.join(", ") }}.</p>
    <p v-if="asked.stays" class="soft">It can go on while you are away, until you end it under “Your applications”.</p>
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
