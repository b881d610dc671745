<script setup lang="ts">
// Whoever was given a link opens it here, once. No sign-in; nothing is opened before they say so.
import { NButton } from "naive-ui";
import { ref } from "vue";
import { useRoute } from "vue-router";
import { type Schemas, api, must } from "@/api/client";
import GatePage from "@/frame/GatePage.vue";
import { useAttempt } from "@/ui/use/attempt";
import Moment from "@/ui/Moment.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import MadePair from "./MadePair.vue";
import SheetPanel from "./SheetPanel.vue";
import { t } from "@/texts/sentences";

const handover = String(useRoute().params.id);
// What opens it is behind the #: browsers send that to nobody. It leaves the address bar, too.
const key = window.location.hash.slice(1);
window.history.replaceState(window.history.state, "", window.location.pathname);
const params = { path: { handover } };
const waiting = ref<Schemas["WaitingHandover"] | null>(null);
const handed = ref<Schemas["HandedOver"] | null>(null);
const passphrase = ref("");
const { busy, error, attempt } = useAttempt();

const look = () =>
  attempt(async () => {
    const found = await must(api.POST("/api/v1/handovers/{handover}/look", { params, body: { key } }));
    try {
      // Whoever comes after it was opened counts as a try: before they read that, so that no closed page hides it.
      if (found.state === "opened") await api.POST("/api/v1/handovers/{handover}/opening", { params, body: { key, passphrase: "" } });
    } finally {
      waiting.value = found;
    }
  });
const open = () =>
  attempt(
    async () =>
      void (handed.value = await must(
        api.POST("/api/v1/handovers/{handover}/opening", { params, body: { key, passphrase: passphrase.value } }),
      )),
  );
void look();
</script>

<template>
  <GatePage :width="handed ? 820 : 560">
    <template v-if="handed">
      <h1>“{{ handed.client_name }}”, for the only time</h1>
      <p role="status">
        Put it where it belongs before you close this page: nobody can show it again. It expires
        <Moment :at="(handed.issued ?? handed.made)?.credential.expires_at ?? null" missing="never" />.
      </p>
      <SheetPanel v-if="handed.issued" :sheets="handed.issued.sheets" />
      <MadePair v-if="handed.made" :made="handed.made" :name="handed.client_name.toLowerCase().replace(/[^a-z0-9]+/g, '-')" />
    </template>
    <template v-else-if="waiting">
      <h1>A credential of “{{ waiting.client_name }}”</h1>
      <p>
        {{ waiting.made_by }} of {{ waiting.directory_name }} hands it over to you.<template v-if="waiting.state === 'waiting'">
          It can be opened <strong>once</strong>, and runs out <Moment :at="waiting.expires_at" />.</template
        >
      </p>
      <p v-if="waiting.note" class="note">{{ waiting.note }}</p>
      <form v-if="waiting.state === 'waiting'" class="stack" @submit.prevent="open">
        <label v-if="waiting.has_passphrase" class="field"
          >Passphrase <span class="hint">that you were told beside the link</span>
          <input v-model="passphrase" class="plain-input" type="password" autocomplete="off" required maxlength="200"
        /></label>
        <ProblemNote v-if="error" :error="error" />
        <div>
          <NButton type="primary" attr-type="submit" size="large" :loading="busy" :disabled="busy">Open it now</NButton>
        </div>
        <p class="soft small">
          Not ready to keep it? Close this page: nothing is opened yet. That it was opened, and from where, is told to
          {{ waiting.made_by }}.
        </p>
      </form>
      <p v-else-if="waiting.state === 'opened'" class="gone" role="alert">
        This link was opened before: <Moment :at="waiting.opened_at" /> from {{ waiting.opened_from || t`an unknown address` }}. If that was
        not you, tell {{ waiting.made_by }} at once: the credential must be withdrawn.
      </p>
      <p v-else class="gone" role="alert">
        This link can no longer be opened:
        {{
          waiting.state === "expired"
            ? t`it ran out`
            : waiting.state === "locked"
              ? t`the passphrase was wrong too often`
              : t`it was taken back`
        }}. Ask {{ waiting.made_by }} for another.
      </p>
    </template>
    <template v-else>
      <h1>A handover link</h1>
      <ProblemNote v-if="error" :error="error" />
      <p v-else class="soft">Looking …</p>
    </template>
  </GatePage>
</template>

<style scoped>
.note {
  border-left: 3px solid var(--line-strong);
  padding-left: var(--s3);
  white-space: pre-wrap;
  overflow-wrap: anywhere;
}
.gone {
  background: var(--broken-bg);
  padding: var(--s3) var(--s4);
}
</style>
