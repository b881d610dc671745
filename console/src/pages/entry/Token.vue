<script setup lang="ts">
// Read a token: pasted here, read here, sent nowhere.
import { useQuery } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import { api, must } from "@/api/client";
import { readToken } from "@/api/token";
import ClaimTable from "@/ui/ClaimTable.vue";
import GatePage from "@/frame/GatePage.vue";
import { now } from "@/ui/use/times";

const text = ref("");
const { data: words } = useQuery({
  queryKey: ["claims"],
  staleTime: Infinity,
  queryFn: () => must(api.GET("/api/v1/claims")),
});
const reading = computed(() => (text.value.trim() ? readToken(text.value, words.value ?? [], now.value) : null));
</script>

<template>
  <GatePage :width="880" home>
    <h1>Read a token</h1>
    <p class="soft">
      Paste an access token. It is read in this page and sent nowhere. Whether its signature fits is not said: that takes the issuer's keys.
    </p>
    <label class="field"
      >Token <textarea v-model="text" class="plain-input" rows="5" spellcheck="false" autocomplete="off"></textarea>
    </label>
    <p v-if="text.trim() && !reading" class="no" role="status">
      This is no JWT: three parts with dots between, each base64url. Copy it whole, without quotes or line ends.
    </p>
    <div v-else-if="reading" role="status" class="stack">
      <ClaimTable :claims="[...reading.header, ...reading.claims]" :wrong="reading.wrong" />
    </div>
  </GatePage>
</template>

<style scoped>
textarea {
  font-family: var(--mono);
  font-size: 12px;
  font-weight: 400;
}
.no {
  color: var(--broken);
}
</style>
