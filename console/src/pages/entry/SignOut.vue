<script setup lang="ts">
// An application asks to sign a person out here too. Nothing ends before they say so, or it shows a token of this sign-in.
import { NButton } from "naive-ui";
import { nextTick, onMounted, ref } from "vue";
import { type Schemas, api, must } from "@/api/client";
import { refresh, signOut } from "@/api/session";
import GatePage from "@/frame/GatePage.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { useAttempt } from "@/ui/use/attempt";
import { say } from "@/texts";
import Said from "@/texts/Said";

// It comes behind the #, which browsers keep to themselves: it reaches no log.
const request = window.location.hash.slice(1);
const asked = ref<Schemas["SignOutLooked"] | null>(null);
const done = ref("");
const { busy, error, attempt } = useAttempt();
const buttons = ref<HTMLElement | null>(null);

async function goOn(): Promise<void> {
  if (asked.value?.person) await signOut();
  if (asked.value?.redirect_to) return window.location.replace(asked.value.redirect_to);
  done.value = say("sign_out.done");
}

function stay(): void {
  done.value = say("sign_out.stayed");
}

onMounted(async () => {
  await attempt(async () => {
    await refresh();
    asked.value = await must(api.POST("/api/v1/sign-outs/lookup", { body: { request } }));
    if (!asked.value.asks) await goOn();
  });
  await nextTick();
  buttons.value?.querySelector("button")?.focus();
});
</script>

<template>
  <GatePage>
    <template v-if="done">
      <h1>{{ asked?.directory_name }}</h1>
      <p role="status">{{ done }}</p>
    </template>
    <template v-else-if="asked?.asks">
      <h1>{{ say("sign_out.question", { directory: asked.directory_name }) }}</h1>
      <Said :text="asked.client_name ? 'sign_out.asks' : 'sign_out.says'" tag="p">
        <template #application
          ><strong>{{ asked.client_name }}</strong></template
        >
        <template #person>{{ asked.person }}</template>
      </Said>
      <div ref="buttons" class="row">
        <NButton @click="stay">{{ say("all.cancel") }}</NButton>
        <NButton type="primary" :loading="busy" @click="attempt(goOn)">{{ say("sign_out.title") }}</NButton>
      </div>
    </template>
    <h1 v-else>{{ say(error ? "all.cannot" : "all.one_moment") }}</h1>
    <ProblemNote v-if="error" :error="error" />
  </GatePage>
</template>
