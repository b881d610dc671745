<script setup lang="ts">
// From where, and with which programs, a credential was used in the last thirty days.
import { useQuery } from "@tanstack/vue-query";
import { api, must } from "@/api/client";
import { directory } from "@/api/session";
import Moment from "@/ui/Moment.vue";
import { t } from "@/texts/sentences";
import { count } from "@/ui/use/words";

const props = defineProps<{ client: string; credential: string }>();
const { data } = useQuery({
  queryKey: ["client", directory, props.client, "users", props.credential],
  queryFn: () =>
    must(
      api.GET("/api/v1/directories/{directory}/clients/{client}/credentials/{credential}/users", {
        params: { path: { directory: directory.value, client: props.client, credential: props.credential } },
      }),
    ),
});
</script>

<template>
  <p v-if="data && !data.length" class="soft small">No token was fetched with it in the last thirty days.</p>
  <ul v-else-if="data" class="users" aria-label="Used from">
    <li v-for="(one, place) in data" :key="place">
      <code>{{ one.address || t`an unknown address` }}</code> {{ one.user_agent || t`a program without a name` }}
      <span class="soft small">{{ count(one.times, "token") }}, last <Moment :at="one.last_at" /></span>
    </li>
  </ul>
</template>

<style scoped>
.users {
  margin: var(--s2) 0;
  padding-left: var(--s4);
}
</style>
