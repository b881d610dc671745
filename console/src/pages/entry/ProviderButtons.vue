<script setup lang="ts">
// Sign in by an outside provider, where the directory of somebody has one.
import { NButton } from "naive-ui";
import { ref, watch } from "vue";
import { goTo, offeredTo } from "@/api/providers";
import type { Schemas } from "@/api/client";
import { say } from "@/texts";

const props = defineProps<{ login: string; directory: string; then: string }>();
const offered = ref<Schemas["ProviderOffered"][]>([]);
let asked = 0;
watch(
  () => [props.login.trim().split("@")[1] ?? "", props.directory.trim()] as const,
  async ([domain, directory]) => {
    const mine = ++asked;
    // Not at each letter: whoever types goes on typing.
    await new Promise((done) => setTimeout(done, 300));
    if (mine !== asked) return;
    const found = await offeredTo(domain ? `x@${domain}` : "", directory);
    if (mine === asked) offered.value = found;
  },
  { immediate: true },
);
</script>

<template>
  <div v-if="offered.length" class="stack" role="group" :aria-label="say('sign_in.other_ways')">
    <NButton v-for="one in offered" :key="one.href" size="large" @click="goTo(one, then)">{{
      say("sign_in.with", { provider: one.title })
    }}</NButton>
  </div>
</template>
