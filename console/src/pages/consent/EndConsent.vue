<script setup lang="ts">
// End one granted permission, after saying what stops by it.
import { NButton } from "naive-ui";
import { computed, ref } from "vue";
import { type Schemas, api, must } from "@/api/client";
import { directory } from "@/api/session";
import { useStale } from "@/api/reads/directory";
import ProblemNote from "@/ui/ProblemNote.vue";
import { ago, clock, now } from "@/ui/use/times";
import { t } from "@/texts/sentences";

const props = defineProps<{ client: string; resource: string; rung: Schemas["Rung"] }>();
const sure = ref(false);
const at = ref("");
const told = ref("");
const tomorrow = new Date(Date.now() + 86_400_000).toISOString().slice(0, 10);
const error = ref<unknown>(null);
const stale = useStale();
const lately = computed(() => props.rung.last_used_at !== null && now.value - Date.parse(props.rung.last_used_at) < 30 * 86_400_000);

async function end(): Promise<void> {
  error.value = null;
  try {
    const ended = await must(
      api.POST("/api/v1/directories/{directory}/clients/{client}/consent/withdrawal", {
        params: { path: { directory: directory.value, client: props.client } },
        body: {
          resource: props.resource,
          permissions: [props.rung.permission],
          kind: props.rung.kind,
          reason: "",
          at: at.value ? `${at.value}T23:59:59Z` : null,
        },
      }),
    );
    told.value = ended.live_tokens
      ? t`${ended.live_tokens} tokens from before may live until ${clock(ended.tokens_until)}; guarded APIs refuse them within seconds.`
      : t`No token from before lives.`;
    sure.value = false;
    await stale();
  } catch (problem) {
    error.value = problem;
  }
}
</script>

<template>
  <div class="end">
    <button v-if="!sure" type="button" class="link-button small" @click="sure = true">End this consent</button>
    <template v-else>
      <p>
        End the consent to <code>{{ rung.permission }}</code>? It stays asked; guarded APIs refuse tokens from before within seconds.
        <strong v-if="lately">It was used {{ ago(rung.last_used_at ?? "", now) }}: whatever uses it stops.</strong>
      </p>
      <label class="row small">Not now, but at the end of <input v-model="at" type="date" class="plain-input" :min="tomorrow" /></label>
      <div class="row">
        <NButton size="small" @click="sure = false">Cancel</NButton
        ><NButton size="small" type="error" ghost @click="end">{{ at ? t`Set its end` : t`End it` }}</NButton>
      </div>
      <ProblemNote v-if="error" :error="error" />
    </template>
    <p v-if="told" role="status" class="small">{{ told }}</p>
  </div>
</template>

<style scoped>
.end {
  display: grid;
  gap: var(--s2);
  justify-items: start;
  margin-bottom: var(--s2);
}
</style>
