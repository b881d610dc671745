<script setup lang="ts">
// One's own passkeys: add one, take one off. With the first come recovery codes, for when the device is lost.
import { NButton } from "naive-ui";
import { ref } from "vue";
import { api, must, type Schemas } from "@/api/client";
import { addPasskey, belongsHere, offersPasskeys } from "@/api/passkeys";
import Moment from "@/ui/Moment.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import TextField from "@/ui/forms/TextField.vue";
import { useAttempt } from "@/ui/use/attempt";

const props = defineProps<{ held: Schemas["OwnSecondFactor"] }>();
const emit = defineEmits<{ changed: []; codes: [codes: string[]] }>();
const adding = ref(false);
const name = ref("");
const sure = ref("");
const { busy, error, attempt } = useAttempt();
const here = offersPasskeys() && belongsHere(props.held.passkey_host);

const add = () =>
  attempt(async () => {
    const made = await addPasskey(name.value);
    name.value = "";
    adding.value = false;
    if (made.codes.length) emit("codes", made.codes);
    emit("changed");
  });
const remove = (passkey: string) =>
  attempt(async () => {
    await must(api.DELETE("/api/v1/session/passkeys/{passkey}", { params: { path: { passkey } } }));
    sure.value = "";
    emit("changed");
  });
</script>

<template>
  <section class="stack" aria-labelledby="passkeys">
    <h2 id="passkeys">Passkeys</h2>
    <p>
      A passkey of your phone, computer or security key signs you in without a password, and no page but this one can ask for it. It counts
      as a second factor.
      <strong v-if="held.passkey_wanted">Whoever has a role here signs in with one.</strong>
    </p>
    <table v-if="held.passkeys?.length" class="log">
      <thead>
        <tr>
          <th scope="col">Name</th>
          <th scope="col">Added</th>
          <th scope="col">Last use</th>
          <th scope="col"><span class="visually-hidden">Take off</span></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="one in held.passkeys" :key="one.id">
          <td class="free">{{ one.name }}</td>
          <td class="nowrap"><Moment :at="one.made_at" /></td>
          <td class="nowrap"><Moment v-if="one.last_used_at" :at="one.last_used_at" /><span v-else class="soft">never</span></td>
          <td class="nowrap">
            <button v-if="sure !== one.id" type="button" class="link-button" @click="sure = one.id">Take it off</button>
            <span v-else class="row">
              <NButton size="small" @click="sure = ''">Cancel</NButton>
              <NButton size="small" type="error" :loading="busy" :disabled="busy" @click="remove(one.id)"
                >Take off “{{ one.name }}”</NButton
              >
            </span>
          </td>
        </tr>
      </tbody>
    </table>
    <form v-if="adding" class="stack" @submit.prevent="add">
      <TextField v-model="name" label="Name" hint="so that you know it again" :longest="60" placeholder="This laptop" />
      <div class="row">
        <NButton @click="adding = false">Cancel</NButton>
        <NButton type="primary" attr-type="submit" :loading="busy" :disabled="busy || !name.trim()">Add the passkey</NButton>
      </div>
    </form>
    <div v-else-if="here"><NButton @click="adding = true">Add a passkey</NButton></div>
    <p v-else-if="!held.passkey_host" class="soft">
      There are none here: this service is reached by a number, and passkeys belong to a name.
    </p>
    <p v-else class="soft">
      To add one, open this page at <code>{{ held.passkey_host }}</code>, with a browser that has passkeys.
    </p>
    <ProblemNote v-if="error" :error="error" />
  </section>
</template>

<style scoped>
.nowrap {
  white-space: nowrap;
}
</style>
