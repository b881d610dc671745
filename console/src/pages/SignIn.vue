<script setup lang="ts">
import { NButton } from "naive-ui";
import { onMounted, ref } from "vue";
import { useRoute, useRouter } from "vue-router";
import { signIn } from "@/api/session";
import ProblemNote from "@/ui/ProblemNote.vue";

const route = useRoute();
const router = useRouter();
const login = ref("");
const password = ref("");
const busy = ref(false);
const error = ref<unknown>(null);
const field = ref<HTMLInputElement | null>(null);
onMounted(() => field.value?.focus());

async function enter(): Promise<void> {
  busy.value = true;
  error.value = null;
  try {
    await signIn(login.value, password.value);
    const then = route.query.then;
    // Only addresses of our own: a path, never another host.
    await router.push(typeof then === "string" && /^\/(?!\/)/.test(then) ? then : "/");
  } catch (problem) {
    error.value = problem;
    password.value = "";
  } finally {
    busy.value = false;
  }
}
</script>

<template>
  <main class="gate">
    <section class="panel">
      <p class="name"><span class="mark" aria-hidden="true"></span> Jamb</p>
      <h1>Sign in</h1>
      <p class="soft">For those who look after client applications: your login names your directory.</p>
      <form class="stack" @submit.prevent="enter">
        <label class="field">
          Login
          <input ref="field" v-model="login" class="plain-input" name="login" type="email" autocomplete="username" required maxlength="200" />
        </label>
        <label class="field">
          Password
          <input v-model="password" class="plain-input" name="password" type="password" autocomplete="current-password" required maxlength="200" />
        </label>
        <ProblemNote v-if="error" :error="error" />
        <NButton type="primary" attr-type="submit" size="large" :loading="busy" :disabled="busy">Sign in</NButton>
      </form>
      <p class="soft small"><RouterLink :to="{ name: 'token' }">Read a token</RouterLink>, without signing in.</p>
    </section>
  </main>
</template>

<style scoped>
.gate { min-height: 100vh; display: grid; place-items: center; padding: var(--s5) var(--s5) var(--s5) 236px; background: linear-gradient(90deg, var(--rail) 212px, var(--paper) 212px); }
.panel { width: min(400px, 100%); display: grid; gap: var(--s4); background: var(--card); border-top: 3px solid var(--ink); padding: var(--s6); }
.name { display: flex; gap: var(--s2); align-items: center; font-weight: 680; }
.mark { width: 14px; height: 18px; border: 3px solid var(--ink); border-bottom: 0; background: linear-gradient(#c98520, #c98520) center bottom / 3px 7px no-repeat; }
h1 { font-size: var(--t-h1); font-weight: 660; letter-spacing: -0.015em; }
</style>
