<script setup lang="ts">
// A person lets a device (the command line, say) act for them, or does not. No is the default.
import { NButton } from "naive-ui";
import { ref } from "vue";
import { type Schemas, api, must } from "@/api/client";
import PageHead from "@/ui/PageHead.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { say } from "@/texts";
import AskedList from "./AskedList.vue";

// The code comes behind the #, which browsers keep to themselves: it reaches no log.
const code = ref(decodeURIComponent(window.location.hash.slice(1)));
const found = ref<Schemas["WaitingDevice"] | null>(null);
const chosen = ref<string[]>([]);
const done = ref("");
const error = ref<unknown>(null);

async function look(): Promise<void> {
  error.value = null;
  found.value = null;
  try {
    found.value = await must(api.POST("/api/v1/devices/lookup", { body: { user_code: code.value } }));
    chosen.value = found.value.to_allow.map((one) => one.permission);
  } catch (problem) {
    error.value = problem;
  }
}

async function decide(approve: boolean): Promise<void> {
  error.value = null;
  try {
    const permissions = approve ? chosen.value : [];
    await must(api.POST("/api/v1/devices/decision", { body: { user_code: code.value, approve, permissions } }));
    done.value = say(approve ? "device.let_in" : "device.turned_away");
  } catch (problem) {
    error.value = problem;
  }
  found.value = null;
}

if (code.value) void look();
</script>

<template>
  <PageHead :title="say('device.title')" :lead="say('device.lead')" />
  <div class="narrow stack">
    <p v-if="done" class="card" role="status">{{ done }}</p>
    <section v-else-if="found" class="card stack">
      <h2>{{ say("device.wants", { device: found.client_name, directory: found.directory }) }}</h2>
      <p v-if="found.all_rights">{{ say("device.all_rights") }}</p>
      <AskedList v-else v-model="chosen" :asked="found" />
      <p>{{ say("device.same_code") }}</p>
      <p class="code">{{ code }}</p>
      <p class="soft">{{ say("device.careful") }}</p>
      <div class="row">
        <NButton type="primary" @click="decide(false)">{{ say("device.no") }}</NButton>
        <NButton @click="decide(true)">{{ say("device.yes") }}</NButton>
      </div>
    </section>
    <form v-else class="card stack" @submit.prevent="look">
      <label class="field">
        {{ say("device.code") }}
        <input v-model="code" class="plain-input mono" required minlength="8" maxlength="12" autocomplete="off" spellcheck="false" />
      </label>
      <div>
        <NButton type="primary" attr-type="submit">{{ say("device.look") }}</NButton>
      </div>
    </form>
    <ProblemNote v-if="error" :error="error" />
  </div>
</template>

<style scoped>
.narrow {
  max-width: 560px;
}
.code {
  font: 600 30px var(--mono);
  letter-spacing: 0.08em;
}
</style>
