<script setup lang="ts">
// Make a one-time link by which a person chooses a password: mailed to them, or shown here to be passed on.
import { NButton } from "naive-ui";
import { ref } from "vue";
import { type Schemas, api, must } from "@/api/client";
import { useStale } from "@/api/reads/directory";
import { directory } from "@/api/session";
import CopyButton from "@/ui/CopyButton.vue";
import Moment from "@/ui/Moment.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { useAttempt } from "@/ui/use/attempt";
import { useShownOnce } from "@/ui/use/unsaved";
import { t } from "@/texts/sentences";

const props = defineProps<{ person: Schemas["Person"] }>();
const emit = defineEmits<{ done: [] }>();
const made = ref<Schemas["SignInLink"] | null>(null);
useShownOnce(() => (made.value && !made.value.mailed ? t`the sign-in link` : null));
const { busy, error, attempt } = useAttempt();
const stale = useStale();
const make = (mailed: boolean) =>
  attempt(async () => {
    made.value = await must(
      api.POST("/api/v1/directories/{directory}/people/{person}/sign-in-links", {
        params: { path: { directory: directory.value, person: props.person.id } },
        body: { hours: 24, mailed },
      }),
    );
    await stale();
  });
</script>

<template>
  <div class="stack panel">
    <template v-if="!made">
      <p class="small">
        By a sign-in link {{ person.name }} chooses a password, the first or another. It opens once, within 24 hours; an earlier link opens
        nothing any more.
      </p>
      <ProblemNote v-if="error" :error="error" />
      <div class="row">
        <NButton size="small" @click="emit('done')">Cancel</NButton>
        <NButton size="small" :disabled="busy" @click="make(false)">Show the link</NButton>
        <NButton size="small" type="primary" :loading="busy" :disabled="busy" @click="make(true)">Mail it to {{ person.login }}</NButton>
      </div>
    </template>
    <template v-else>
      <p v-if="made.mailed" role="status">The link goes to {{ made.login }} with the next mail, within a few minutes.</p>
      <template v-else>
        <p role="status">
          Give it to {{ person.name }} and to nobody else; it is shown once. It runs out <Moment :at="made.expires_at" />.
        </p>
        <p class="link">
          <code>{{ made.link }}</code>{{ " " }}<CopyButton :value="made.link" what="sign-in link" />
        </p>
      </template>
      <div><NButton size="small" @click="emit('done')">Close</NButton></div>
    </template>
  </div>
</template>

<style scoped>
.panel {
  padding: var(--s2) 0;
}
.link {
  overflow-wrap: anywhere;
}
</style>
