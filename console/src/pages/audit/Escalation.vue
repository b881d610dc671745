<script setup lang="ts">
// Escalation paths: weak ends on the left, strong ones on the right, names on the arrows; and the change that closes most.
import { computed, ref } from "vue";
import type { Schemas } from "@/api/client";
import { useEscalation } from "@/api/reads/audit";
import Loadable from "@/ui/Loadable.vue";
import Moment from "@/ui/Moment.vue";
import PageHead from "@/ui/PageHead.vue";
import AuditTabs from "./AuditTabs.vue";
import { t } from "@/texts/sentences";
import { count } from "@/ui/use/words";

type Node = Schemas["PathNode"];
const { data, error, isLoading, refetch } = useEscalation();
const cut = ref("");
const paths = computed(() => data.value?.paths ?? []);
const parted = (way: { steps: { cut: string }[] }) => cut.value !== "" && way.steps.some((step) => step.cut === cut.value);
// All clients at once is no place to be, but a way to each of them: it is drawn with the arrow before it.
const merged = computed(() =>
  paths.value.map((way) => {
    const steps: { by: string; cut: string; to: Node }[] = [];
    let over: { by: string; cut: string } | null = null;
    for (const step of way.steps) {
      if (step.to.kind === "every") over = { by: t`${step.by}, over every client`, cut: step.cut };
      else {
        steps.push({ to: step.to, by: over?.by ?? step.by, cut: over?.cut ?? step.cut });
        over = null;
      }
    }
    return { source: way.source, steps };
  }),
);
// Every node once, in the layer of its longest way from the top; a layer wraps, so that the drawing fits the page.
const BOX = { width: 180, height: 42 };
const STEP = 199;
const IN_A_ROW = 5;
const GAP = 64;
interface Placed {
  node: Node;
  x: number;
  y: number;
}
const drawn = computed(() => {
  const layer = new Map<string, number>();
  const nodes = new Map<string, Node>();
  const arrows = new Map<string, { from: string; to: string; by: string; cut: string }>();
  for (const way of merged.value) {
    let at: Node = way.source;
    let depth = 0;
    nodes.set(at.id, at);
    layer.set(at.id, Math.max(layer.get(at.id) ?? 0, depth));
    for (const step of way.steps) {
      depth += 1;
      nodes.set(step.to.id, step.to);
      layer.set(step.to.id, Math.max(layer.get(step.to.id) ?? 0, depth));
      arrows.set(`${at.id}→${step.to.id}→${step.cut}`, { from: at.id, to: step.to.id, by: step.by, cut: step.cut });
      at = step.to;
    }
  }
  const placed = new Map<string, Placed>();
  let top = 4;
  for (let depth = 0; depth <= Math.max(...layer.values(), 0); depth += 1) {
    const here = [...nodes.values()].filter((node) => layer.get(node.id) === depth);
    here.forEach((node, place) =>
      placed.set(node.id, {
        node,
        x: 4 + (place % IN_A_ROW) * STEP,
        y: top + Math.floor(place / IN_A_ROW) * (BOX.height + 12),
      }),
    );
    top += Math.ceil(here.length / IN_A_ROW) * (BOX.height + 12) + GAP;
  }
  const lines = [...arrows.values()].map((one) => {
    const from = placed.get(one.from)!;
    const to = placed.get(one.to)!;
    const [x1, y1, x2, y2] = [from.x + 24, from.y + BOX.height, to.x + 24, to.y - 5];
    const bend = Math.max((y2 - y1) * 0.6, 24);
    return { ...one, path: `M ${x1} ${y1} C ${x1} ${y1 + bend}, ${x2} ${y2 - bend}, ${x2} ${y2}` };
  });
  // Why, once for each reason of a node, beneath it.
  const said = new Map<string, { x: number; y: number; by: string; cut: string }>();
  const beneath = new Map<string, number>();
  for (const line of lines) {
    const key = `${line.from}→${line.by}`;
    if (said.has(key)) continue;
    const from = placed.get(line.from)!;
    const row = beneath.get(line.from) ?? 0;
    beneath.set(line.from, row + 1);
    said.set(key, { x: from.x + 32, y: from.y + BOX.height + 16 + row * 14, by: line.by, cut: line.cut });
  }
  return { nodes: [...placed.values()], lines, said: [...said.values()], wide: IN_A_ROW * STEP, tall: top - GAP + 4 };
});
const WORD: Record<string, string> = { person: "person", client: "client", place: "directory" };
const short = (text: string, most: number) => (text.length > most ? `${text.slice(0, most - 1)}…` : text);
</script>

<template>
  <PageHead
    title="Escalation"
    :count="data?.found ? count(data.pairs, 'path') : ''"
    :lead="data ? t`From who may do little (below a weight of ${data.weak_below}) to what may do much (${data.strong_from} or more)` : ' '"
  >
    <template #below><AuditTabs /></template>
  </PageHead>
  <Loadable :loading="isLoading" :error="error" :ready="!!data" :lines="12" :retry="refetch">
    <template v-if="data">
      <p v-if="data.as_of" class="soft earlier">
        As they were found <Moment :at="data.as_of" />. Records were changed since: the service looks for them again within minutes.
      </p>
      <p v-if="!data.found" class="empty">
        Nobody looked for escalation paths yet. The service does so now: this page shows them in some minutes.
      </p>
      <p v-else-if="!paths.length" class="empty">No escalation path was found.</p>
      <template v-else>
        <section v-if="data.cuts.length" aria-labelledby="cuts">
          <h2 id="cuts">Changes that close the most paths <span class="soft small">choose one to see which</span></h2>
          <ol class="cuts">
            <li v-for="one in data.cuts" :key="one.cut">
              <button type="button" class="toggle" :aria-pressed="cut === one.cut" @click="cut = cut === one.cut ? '' : one.cut">
                <strong>{{ one.closes }} of {{ data.pairs }}</strong> {{ one.words }}
              </button>
            </li>
          </ol>
        </section>
        <figure class="card drawing" tabindex="0" aria-label="Drawing">
          <svg
            :viewBox="`0 0 ${drawn.wide} ${drawn.tall}`"
            :width="drawn.wide"
            :height="drawn.tall"
            role="img"
            aria-label="The escalation paths, drawn from top to bottom; the list beneath says the same"
          >
            <defs>
              <marker id="tip" viewBox="0 0 8 8" refX="7" refY="4" markerWidth="7" markerHeight="7" orient="auto">
                <path d="M 0 0 L 8 4 L 0 8 z" />
              </marker>
            </defs>
            <g v-for="line in drawn.lines" :key="line.path" :class="{ cut: cut !== '' && line.cut === cut }">
              <path class="arrow" :d="line.path" marker-end="url(#tip)" />
            </g>
            <g v-for="one in drawn.said" :key="one.x + one.by" :class="{ cut: cut !== '' && one.cut === cut }">
              <text class="by" :x="one.x" :y="one.y">{{ one.by }}</text>
            </g>
            <g
              v-for="one in drawn.nodes"
              :key="one.node.id"
              :transform="`translate(${one.x} ${one.y})`"
              :class="[one.node.kind, { strong: one.node.weight >= data.strong_from }]"
            >
              <rect :width="BOX.width" :height="BOX.height" rx="3" />
              <text class="name" x="10" y="17">
                {{ short(one.node.name, 22) }}
                <title>{{ one.node.name }}</title>
              </text>
              <text class="what" x="10" y="32">{{ WORD[one.node.kind] }}, weight {{ Math.round(one.node.weight) }}</text>
            </g>
          </svg>
        </figure>
        <section aria-labelledby="paths">
          <h2 id="paths">The paths <span class="soft small">the gravest first, each a shortest one</span></h2>
          <ol class="paths">
            <li v-for="(way, place) in merged" :key="place" :class="{ parted: parted(way) }">
              <strong>{{ way.source.name }}</strong>
              <template v-for="(step, at) in way.steps" :key="at"
                >{{ " " }}<span class="soft">→ {{ step.by }} →</span>{{ " "
                }}<RouterLink v-if="step.to.kind === 'client'" :to="{ name: 'dossier', params: { id: step.to.id } }">{{
                  step.to.name
                }}</RouterLink
                ><strong v-else>{{ step.to.name }}</strong></template
              >
              <span v-if="parted(way)" class="small"> — closed by that change</span>
            </li>
          </ol>
        </section>
      </template>
    </template>
  </Loadable>
</template>

<style scoped>
section {
  margin-bottom: var(--s4);
}
h2 {
  margin-bottom: var(--s2);
}
.earlier {
  margin-bottom: var(--s4);
}
.cuts {
  list-style: none;
  padding: 0;
  display: grid;
  gap: 2px;
  justify-items: start;
}
.drawing {
  overflow-x: auto;
  margin: 0 0 var(--s4);
  padding: var(--s3);
}
svg {
  display: block;
  max-width: none;
}
rect {
  fill: var(--paper);
  stroke: var(--line-strong);
}
.strong rect {
  fill: var(--broken-bg);
  stroke: var(--broken);
  stroke-width: 1.5;
}
text {
  fill: var(--ink);
  font-size: 12.5px;
}
.name {
  font-weight: 620;
}
.what {
  fill: var(--ink-soft);
  font-size: 11.5px;
}
.by {
  font-size: 11.5px;
  fill: var(--ink-soft);
  paint-order: stroke;
  stroke: var(--card);
  stroke-width: 4px;
}
.arrow {
  fill: none;
  stroke: var(--line-strong);
  stroke-width: 1.5;
}
marker path {
  fill: var(--line-strong);
}
.cut .arrow {
  stroke: var(--focus);
  stroke-dasharray: 5 4;
  stroke-width: 2;
}
.cut .by {
  fill: var(--focus);
  font-weight: 620;
}
.paths {
  padding-left: 22px;
  display: grid;
  gap: 4px;
}
.parted {
  color: var(--ink-soft);
}
.empty {
  padding: var(--s4) 0;
}
</style>
