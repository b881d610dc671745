// Somebody else changed what is being edited: what they did is shown beside one's own, field by field, and nothing is
// overwritten by who did not look (If-Match, RFC 9110 section 13.1.1).
import { computed, ref, shallowRef } from "vue";
import { problemOf } from "@/api/problems";

export interface Field<V> {
  label: string;
  /** What a state says of it, in words. */
  read: (state: V) => string;
  /** What the form says of it. */
  mine: () => string;
  /** Put what a state says into the form. */
  take: (state: V) => void;
}

export interface Row {
  label: string;
  mine: string;
  theirs: string;
  /** Null: to be chosen. Where one's own form said nothing else, theirs is taken without a question. */
  choice: "mine" | "theirs" | null;
  taken: boolean;
}

interface State {
  version: string;
}

/**
 * `first`: what the form was filled with; nothing: it makes something new. `again`: reads what is there now. `seen` of what
 * comes back: what is put in the place of.
 */
export function useMeanwhile<V extends State>(first: V | undefined, fields: () => Field<V>[], again: () => Promise<V | undefined>) {
  const seen = shallowRef(first);
  const rows = ref<Row[]>([]);
  const undecided = computed(() => rows.value.some((row) => row.choice === null));
  const header = () => (seen.value ? { "If-Match": `"${seen.value.version}"` } : { "If-None-Match": "*" as const });

  function compare(now: V): void {
    const was = seen.value;
    rows.value = fields().flatMap((field) => {
      const [before, theirs, mine] = [was ? field.read(was) : "", field.read(now), field.mine()];
      if (theirs === before || theirs === mine) return [];
      const taken = mine === before;
      if (taken) field.take(now);
      return [{ label: field.label, mine, theirs, choice: taken ? ("theirs" as const) : null, taken }];
    });
    seen.value = now;
  }

  /** Save, after what was chosen is in the form. Where somebody was faster, show it and save nothing. */
  async function saving(save: () => Promise<void>): Promise<boolean> {
    for (const row of rows.value) {
      const field = fields().find((one) => one.label === row.label);
      if (row.choice === "theirs" && !row.taken && seen.value) field?.take(seen.value);
    }
    try {
      await save();
      rows.value = [];
      return true;
    } catch (problem) {
      const now = seen.value && problemOf(problem).type.endsWith("outdated") ? await again() : undefined;
      if (!now) throw problem;
      compare(now);
      return false;
    }
  }
  return { rows, undecided, header, saving, seen };
}
