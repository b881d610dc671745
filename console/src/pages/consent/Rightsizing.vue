<script setup lang="ts">
// What a client holds at a resource beside what would do; tried in a dry run, then put in force.
import { NButton } from "naive-ui";
import { computed, ref, watch } from "vue";
import { type Schemas, api, must } from "@/api/client";
import { directory, useCan } from "@/api/session";
import { useRightsizing } from "@/api/reads/consent";
import { useStale } from "@/api/reads/directory";
import { useAttempt } from "@/ui/use/attempt";
import Loadable from "@/ui/Loadable.vue";
import Moment from "@/ui/Moment.vue";
import SaveCharter from "@/pages/charters/SaveCharter.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import StateWord from "@/ui/StateWord.vue";
import TextField from "@/ui/forms/TextField.vue";
import { held } from "@/ui/use/words";
import { t } from "@/texts/sentences";

const can = useCan();
const props = defineProps<{ client: string; resources: Schemas["ResourceLadder"][] }>();
const places = computed(() =>
  props.resources.filter((place) => place.rungs.some((rung) => rung.kind === "application" && rung.granted_at)),
);
const at = ref("");
watch(
  places,
  (now) => {
    if (!now.some((place) => place.resource === at.value)) at.value = now[0]?.resource ?? "";
  },
  { immediate: true },
);
const { data, error: unread, isLoading, refetch } = useRightsizing(() => props.client, at);
const sure = ref<"" | "enforce" | "force" | "request">("");
const why = ref("");
const { busy, error, attempt } = useAttempt();
const stale = useStale();
watch(at, () => {
  sure.value = "";
  error.value = null;
});
const where = () => ({ params: { path: { directory: directory.value, client: props.client, resource: at.value } } });
const run = (work: () => Promise<unknown>) =>
  attempt(async () => {
    await work();
    sure.value = "";
    await stale();
  });
const start = () =>
  run(() =>
    must(
      api.POST("/api/v1/directories/{directory}/clients/{client}/rightsizing/{resource}/dry-run", {
        ...where(),
        body: { reason: "" },
      }),
    ),
  );
const drop = () => run(() => must(api.DELETE("/api/v1/directories/{directory}/clients/{client}/rightsizing/{resource}/dry-run", where())));
const enforce = (force: boolean) =>
  run(() =>
    must(
      api.POST("/api/v1/directories/{directory}/clients/{client}/rightsizing/{resource}/enforcement", {
        ...where(),
        body: { force, reason: "" },
      }),
    ),
  );
const request = () =>
  run(async () => {
    await must(
      api.POST("/api/v1/directories/{directory}/clients/{client}/rightsizing/{resource}/request", {
        ...where(),
        body: { reason: why.value },
      }),
    );
    why.value = "";
  });
const over = computed(() => !!data.value?.dry_run && Date.parse(data.value.dry_run.dry_run_until) <= Date.now());
</script>

<template>
  <p v-if="!places.length" class="soft small">It holds nothing as itself.</p>
  <template v-else>
    <div v-if="places.length > 1" class="row" role="group" aria-label="At which resource">
      <button
        v-for="place in places"
        :key="place.resource"
        type="button"
        class="toggle"
        :aria-pressed="at === place.resource"
        @click="at = place.resource"
      >
        {{ place.title }}
      </button>
    </div>
    <Loadable :loading="isLoading" :error="unread" :ready="!!data" :lines="3" :retry="refetch">
      <template v-if="data">
        <p v-if="!data.proposal && !data.dry_run" class="small">{{ data.why_not }}</p>
        <div v-if="data.proposal" class="beside">
          <div class="card">
            <h3>
              Holds <span class="soft small">weight {{ data.proposal.weight_before }}</span>
            </h3>
            <ul>
              <li v-for="one in held(data.proposal.held)" :key="one">
                <code>{{ one }}</code>
              </li>
            </ul>
          </div>
          <div class="card would">
            <h3>
              Would do <span class="soft small">weight {{ data.proposal.weight_after }}</span>
            </h3>
            <ul>
              <li v-for="one in held(data.proposal.after)" :key="one">
                <code>{{ one }}</code>
              </li>
              <li v-if="!data.proposal.after.length">nothing: it does nothing there</li>
            </ul>
          </div>
          <dl class="facts wide small">
            <dt>It does</dt>
            <dd>{{ data.proposal.done.join(", ") || t`nothing` }}</dd>
            <dt>It touches</dt>
            <dd>
              {{
                data.proposal.touched === null
                  ? t`not reported`
                  : data.proposal.touched.length
                    ? data.proposal.touched.join(", ")
                    : t`nothing`
              }}
            </dd>
            <dt>No longer possible</dt>
            <dd>
              <strong>{{ data.proposal.no_longer.join(", ") || t`nothing` }}</strong>
            </dd>
            <template v-if="data.proposal.narrower.length"
              ><dt>For fewer objects</dt>
              <dd>{{ data.proposal.narrower.join(", ") }}</dd></template
            >
            <template v-if="data.proposal.kept.length"
              ><dt>Stays beside it</dt>
              <dd>{{ held(data.proposal.kept).join("; ") }}</dd></template
            >
          </dl>
        </div>
        <div v-if="data.dry_run" class="card stack">
          <p>
            Dry run, begun <Moment :at="data.dry_run.started_at" /> by {{ data.dry_run.started_by }}, over
            <Moment :at="data.dry_run.dry_run_until" />: <code>{{ held(data.dry_run.after).join("; ") || t`nothing` }}</code>.
            <StateWord
              :tone="data.dry_run.missed ? 'broken' : 'live'"
              :word="data.dry_run.missed ? t`${data.dry_run.missed} calls would have been refused` : t`nothing would have been refused`"
            />
          </p>
          <ul v-if="data.dry_run.misses.length" class="small">
            <li v-for="one in data.dry_run.misses" :key="one.operation + one.object">
              {{ one.calls }} × <code>{{ one.operation }} {{ one.object }}</code
              >, last <Moment :at="one.last_at" />
            </li>
          </ul>
          <div v-if="!sure" class="row">
            <NButton
              v-if="can('rightsizing.enforce')"
              size="small"
              type="primary"
              @click="sure = over && !data.dry_run.missed ? 'enforce' : 'force'"
              >Put it in force</NButton
            >
            <NButton v-else-if="can('rightsizing.request') && !data.request_id" size="small" @click="sure = 'request'"
              >Ask an approver</NButton
            >
            <button v-if="can('dry-runs.end')" type="button" class="link-button small" @click="drop">End the dry run</button>
          </div>
          <template v-else-if="sure !== 'request'">
            <p>
              {{
                sure === "force"
                  ? data.dry_run.missed
                    ? t`What is listed above will be refused from now on. Put it in force all the same?`
                    : t`Its time is not over yet. Put it in force all the same?`
                  : t`This takes the place of what is held, within seconds.`
              }}
            </p>
            <div class="row">
              <NButton size="small" @click="sure = ''">Cancel</NButton
              ><NButton size="small" type="error" ghost :loading="busy" :disabled="busy" @click="enforce(sure === 'force')"
                >Put it in force</NButton
              >
            </div>
          </template>
        </div>
        <div v-else-if="data.proposal && !sure" class="row">
          <NButton v-if="can('dry-runs.start')" size="small" :loading="busy" :disabled="busy" @click="start">Start a dry run</NButton>
          <NButton v-else-if="can('rightsizing.request')" size="small" @click="sure = 'request'">Ask an approver</NButton>
          <span class="soft small">nothing is refused while it is in a dry run; what it would refuse is counted</span>
        </div>
        <div v-if="sure === 'request'" class="stack">
          <TextField v-model="why" label="Why less would do" hint="for whoever decides" :longest="500" />
          <div class="row">
            <NButton size="small" @click="sure = ''">Cancel</NButton
            ><NButton size="small" type="primary" :loading="busy" :disabled="busy || !why.trim()" @click="request"
              >Ask an approver to put it in force</NButton
            >
          </div>
        </div>
        <p v-if="data.request_id" class="small">
          <RouterLink :to="{ name: 'request', params: { id: data.request_id } }">A request to put it in force</RouterLink>
          waits for an approver.
        </p>
        <p v-if="data.proposal && can('charters.read')" class="small">
          <SaveCharter :client="client" rightsized />{{ " " }}
          <span class="soft">a file that declares this client with the proposed permissions, to be adopted in any directory</span>
        </p>
        <ProblemNote v-if="error" :error="error" />
      </template>
    </Loadable>
  </template>
</template>

<style scoped>
.beside {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: var(--s3);
}
.beside ul {
  list-style: none;
  padding: 0;
}
.would {
  border-left: 3px solid var(--live);
}
.wide {
  grid-column: 1 / -1;
}
h3 {
  font-size: var(--t-body);
  margin-bottom: var(--s1);
}
</style>
