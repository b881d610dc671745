<script setup lang="ts">
// What somebody else changed while one was editing, beside one's own.
import type { Row } from "@/ui/use/meanwhile";
import { t } from "@/texts/sentences";

const rows = defineModel<Row[]>({ required: true });
</script>

<template>
  <section v-if="rows.length" class="meanwhile stack" role="alert" aria-label="Changed meanwhile">
    <p>
      <strong>Somebody changed this while you were editing. Nothing of yours was saved yet.</strong>
      Choose what is to stand, then save again.
    </p>
    <table class="log">
      <thead>
        <tr>
          <th scope="col">Field</th>
          <th scope="col">Yours</th>
          <th scope="col">There now</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="row in rows" :key="row.label">
          <th scope="row">{{ row.label }}</th>
          <template v-if="row.taken">
            <td class="free soft">you changed nothing here</td>
            <td class="free said">{{ row.theirs || t`nothing` }} <span class="soft">(stays)</span></td>
          </template>
          <template v-else>
            <td v-for="side in ['mine', 'theirs'] as const" :key="side" class="free">
              <label class="said">
                <input v-model="row.choice" type="radio" :name="`meanwhile-${row.label}`" :value="side" />
                <span>{{ row[side] || t`nothing` }}</span>
              </label>
            </td>
          </template>
        </tr>
      </tbody>
    </table>
  </section>
</template>

<style scoped>
.meanwhile {
  border-left: 4px solid var(--wait);
  padding-left: var(--s3);
}
.said {
  white-space: pre-wrap;
  overflow-wrap: anywhere;
}
label {
  display: flex;
  gap: var(--s2);
  align-items: baseline;
}
th[scope="row"] {
  font-weight: 560;
}
</style>
