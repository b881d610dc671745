<script setup lang="ts">
// Read a token: pasted here, read here, sent nowhere.
import { useQuery } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import { api, must } from "@/api/client";
import { readToken } from "@/api/token";
import ClaimTable from "@/ui/ClaimTable.vue";
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
  <main class="gate">
    <section class="panel stack">
      <p class="name">
        <RouterLink to="/" class="home"><span class="mark" aria-hidden="true"></span> Jamb</RouterLink>
      </p>
      <h1>Read a token</h1>
      <p class="soft">
        Paste an access token. It is read in this page and sent nowhere. Whether its signature fits is not said: that takes the issuer's
        keys.
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
    </section>
  </main>
</template>

<style scoped>
.gate {
  min-height: 100vh;
  display: grid;
  justify-items: center;
  align-items: start;
  padding: var(--s6) var(--s5);
  background: var(--paper);
}
.panel {
  width: min(880px, 100%);
  background: var(--card);
  border-top: 3px solid var(--ink);
  padding: var(--s6);
}
.home {
  display: inline-flex;
  gap: var(--s2);
  align-items: center;
  font-weight: 680;
  color: inherit;
  text-decoration: none;
}
.mark {
  width: 14px;
  height: 18px;
  border: 3px solid var(--ink);
  border-bottom: 0;
  background: linear-gradient(#c98520, #c98520) center bottom / 3px 7px no-repeat;
}
textarea {
  font-family: var(--mono);
  font-size: 12px;
  font-weight: 400;
}
.no {
  color: var(--broken);
}
</style>
