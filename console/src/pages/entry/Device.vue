<script setup lang="ts">
// A person lets a device (the command line, say) act for them, or does not. No is the default.
import { NButton } from "naive-ui";
import { ref } from "vue";
import { type Schemas, api, must } from "@/api/client";
import PageHead from "@/ui/PageHead.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
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
    done.value = approve ? "The device may act for you. You can close this page." : "The device was turned away.";
  } catch (problem) {
    error.value = problem;
  }
  found.value = null;
}

if (code.value) void look();
</script>

<template>
  <PageHead title="Let a device in" lead="A device shows a code. Whoever you let in acts for you." />
  <div class="narrow stack">
    <p v-if="done" class="card" role="status">{{ done }}</p>
    <section v-else-if="found" class="card stack">
      <h2>{{ found.client_name }} wants to act for you in {{ found.directory }}</h2>
      <p v-if="found.all_rights">It acts with all your rights here until it signs out.</p>
      <AskedList v-else v-model="chosen" :asked="found" />
      <p>Does the device show this code?</p>
      <p class="code">{{ code }}</p>
      <p class="soft">If you did not start this yourself just now, say no: someone may be trying to use your rights.</p>
      <div class="row">
        <NButton type="primary" @click="decide(false)">No, turn it away</NButton>
        <NButton @click="decide(true)">Yes, it is mine: let it act for me</NButton>
      </div>
    </section>
    <form v-else class="card stack" @submit.prevent="look">
      <label class="field">
        Code on the device
        <input v-model="code" class="plain-input mono" required minlength="8" maxlength="12" autocomplete="off" spellcheck="false" />
      </label>
      <div><NButton type="primary" attr-type="submit">Look</NButton></div>
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
