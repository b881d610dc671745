<script setup lang="ts">
// Issue a secret with an end, and show it once.
import { NButton } from "naive-ui";
import { computed, nextTick, ref } from "vue";
import { type Schemas, api, must } from "@/api/client";
import { directory } from "@/api/session";
import { useDossier } from "@/api/reads/clients";
import { useDirectory, useStale } from "@/api/reads/directory";
import { useAttempt } from "@/ui/use/attempt";
import Choose from "@/ui/forms/Choose.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { day } from "@/ui/use/times";
import { useShownOnce } from "@/ui/use/unsaved";
import SheetPanel from "./SheetPanel.vue";
import { t } from "@/texts/sentences";

const props = defineProps<{ client: string }>();
const emit = defineEmits<{ issued: []; closed: [] }>();
const { data: place } = useDirectory();
const days = ref<number | string>("");
const { data: dossier } = useDossier(() => props.client);
const lost = ref<string | null>(null);
const others = computed(() =>
  (dossier.value?.credentials ?? [])
    .filter((one) => one.kind === "secret" && one.state !== "withdrawn")
    .map((one) => ({ label: t`in place of ${one.hint}, lost: it is withdrawn`, value: one.id })),
);
const issued = ref<Schemas["IssuedSecret"] | null>(null);
const kept = ref(false);
const once = ref<HTMLElement | null>(null);
useShownOnce(() => (issued.value ? t`the secret` : null));
const { busy, error, attempt } = useAttempt();
const stale = useStale();
const count = computed(() => Number(days.value || place.value?.policy.secret_default_days || 0));
const ends = computed(() =>
  count.value > 0 && count.value < 5000 ? day(new Date(Date.now() + count.value * 86_400_000).toISOString()) : "",
);

async function issue(): Promise<void> {
  await attempt(async () => {
    issued.value = await must(
      api.POST("/api/v1/directories/{directory}/clients/{client}/secrets", {
        params: { path: { directory: directory.value, client: props.client } },
        body: { days: days.value === "" ? null : Number(days.value), label: "", instead_of: lost.value },
      }),
    );
    kept.value = false;
    emit("issued");
    await nextTick();
    once.value?.querySelector<HTMLElement>("[aria-label='copy client secret']")?.focus();
  });
}

async function close(): Promise<void> {
  issued.value = null;
  await stale();
  emit("closed");
}
</script>

<template>
  <section v-if="issued" ref="once" class="shown-once stack" aria-labelledby="once">
    <h3 id="once">The secret, for the only time</h3>
    <p>Nobody can show it again, Jamb keeps only a digest. If it gets lost, issue another and withdraw this one.</p>
    <SheetPanel :sheets="issued.sheets" />
    <label class="row"><input v-model="kept" type="checkbox" /> I have put the secret where it belongs</label>
    <div><NButton type="primary" :disabled="!kept" @click="close">Close: the secret is gone from here</NButton></div>
  </section>
  <form v-else class="stack" @submit.prevent="issue">
    <div class="row end">
      <label class="field">
        Lifetime, days
        <input
          v-model="days"
          class="plain-input days"
          type="number"
          inputmode="numeric"
          step="1"
          aria-describedby="bounds"
          :placeholder="String(place?.policy.secret_default_days ?? '')"
        />
      </label>
      <div v-if="others.length" class="lost">
        <Choose v-model="lost" :options="others" label="In place of" placeholder="beside those it has" />
      </div>
      <NButton type="primary" attr-type="submit" :loading="busy" :disabled="busy">{{
        ends ? t`Issue a secret that expires ${ends}` : t`Issue a secret`
      }}</NButton>
    </div>
    <p id="bounds" class="hint">
      At most {{ place?.policy.secret_longest_days }} days in this directory; {{ place?.policy.secret_default_days }} when left empty.
    </p>
    <ProblemNote v-if="error" :error="error" />
  </form>
</template>

<style scoped>
.days {
  width: 110px;
}
.lost {
  width: 330px;
}
.end {
  align-items: flex-end;
}
</style>
