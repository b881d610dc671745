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
import { say } from "@/texts";
import Said from "@/texts/Said";

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
    <h2 id="passkeys">{{ say("passkeys.title") }}</h2>
    <p>
      {{ say("passkeys.what") }}
      <strong v-if="held.passkey_wanted">{{ say("passkeys.wanted") }}</strong>
    </p>
    <table v-if="held.passkeys?.length" class="log">
      <thead>
        <tr>
          <th scope="col">{{ say("all.name") }}</th>
          <th scope="col">{{ say("passkeys.added") }}</th>
          <th scope="col">{{ say("passkeys.last_use") }}</th>
          <th scope="col">
            <span class="visually-hidden">{{ say("passkeys.take_off") }}</span>
          </th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="one in held.passkeys" :key="one.id">
          <td class="free">{{ one.name }}</td>
          <td class="nowrap"><Moment :at="one.made_at" /></td>
          <td class="nowrap">
            <Moment v-if="one.last_used_at" :at="one.last_used_at" /><span v-else class="soft">{{ say("passkeys.never") }}</span>
          </td>
          <td class="nowrap">
            <button v-if="sure !== one.id" type="button" class="link-button" @click="sure = one.id">
              {{ say("passkeys.take_it_off") }}
            </button>
            <span v-else class="row">
              <NButton size="small" @click="sure = ''">{{ say("all.cancel") }}</NButton>
              <NButton size="small" type="error" :loading="busy" :disabled="busy" @click="remove(one.id)">{{
                say("passkeys.take_off_this", { name: one.name })
              }}</NButton>
            </span>
          </td>
        </tr>
      </tbody>
    </table>
    <form v-if="adding" class="stack" @submit.prevent="add">
      <TextField
        v-model="name"
        :label="say('all.name')"
        :hint="say('passkeys.name_hint')"
        :longest="60"
        :placeholder="say('passkeys.name_example')"
      />
      <div class="row">
        <NButton @click="adding = false">{{ say("all.cancel") }}</NButton>
        <NButton type="primary" attr-type="submit" :loading="busy" :disabled="busy || !name.trim()">{{ say("passkeys.add") }}</NButton>
      </div>
    </form>
    <div v-else-if="here">
      <NButton @click="adding = true">{{ say("passkeys.add_one") }}</NButton>
    </div>
    <p v-else-if="!held.passkey_host" class="soft">{{ say("passkeys.none_by_number") }}</p>
    <Said v-else text="passkeys.elsewhere" tag="p" class="soft">
      <template #host
        ><code>{{ held.passkey_host }}</code></template
      >
    </Said>
    <ProblemNote v-if="error" :error="error" />
  </section>
</template>

<style scoped>
.nowrap {
  white-space: nowrap;
}
</style>
