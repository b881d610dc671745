<script setup lang="ts">
import { NConfigProvider, dateEnGB, enGB } from "naive-ui";
import { computed, defineAsyncComponent, watch } from "vue";
import { useRoute, useRouter } from "vue-router";
import { current } from "./api/session";
import Frame from "./frame/Frame.vue";
import { asking, sessionOver } from "./api/confirmation";
import AskFirst from "./frame/AskFirst.vue";
import Failed from "./frame/Failed.vue";
import { failed } from "./frame/failures";
import { question } from "./ui/use/ask";
import { naiveOverrides, naiveTheme } from "@/ui/style/theme";

const ConfirmItIsYou = defineAsyncComponent(() => import("./frame/ConfirmItIsYou.vue"));
const SessionOver = defineAsyncComponent(() => import("./frame/SessionOver.vue"));
const route = useRoute();
const router = useRouter();

// Until the first page is there it is known which one it will be: with the frame, or without.
const first = router.resolve(window.location.pathname);
const place = computed(() => (route.matched.length ? route : first));

// What is behind the # is another thing to decide about, though the page is the same: it is begun anew.
const key = computed(() => (place.value.meta.byHash ? place.value.hash : undefined));

// A session that ends while one works leads to the sign-in page, and back to the same place afterwards.
watch(current, (now, before) => {
  if (!now && before && !route.meta.open) void router.push({ name: "sign-in", query: { then: route.fullPath } });
});
</script>

<template>
  <NConfigProvider
    :theme="naiveTheme"
    :theme-overrides="naiveOverrides"
    :locale="enGB"
    :date-locale="dateEnGB"
    preflight-style-disabled
    abstract
  >
    <Failed v-if="failed" :failure="failed" />
    <RouterView v-if="place.meta.open && !(place.meta.framed && current)" :key="key" />
    <Frame v-else-if="current"><RouterView :key="key" /></Frame>
    <ConfirmItIsYou v-if="asking" />
    <SessionOver v-if="sessionOver" />
    <AskFirst v-if="question" :key="question.title" :asked="question" />
  </NConfigProvider>
</template>
