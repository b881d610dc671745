// A long list of which only a part is on the page: what is looked for, and the first of it.
import { type Ref, computed, ref } from "vue";

export interface Some<T> {
  wanted: Ref<string>;
  /** What is found, as much of it as fits. */
  shown: Readonly<Ref<T[]>>;
  /** All that is found. */
  matching: Readonly<Ref<readonly T[]>>;
  found: Readonly<Ref<number>>;
  all: Readonly<Ref<number>>;
}

/** `text`: in which is looked for. `most`: so many are shown. */
export function useSome<T>(list: () => readonly T[] | undefined, text: (one: T) => string, most = 50): Some<T> {
  const wanted = ref("");
  const matching = computed(() => {
    const word = wanted.value.trim().toLowerCase();
    const whole = list() ?? [];
    return word ? whole.filter((one) => text(one).toLowerCase().includes(word)) : whole;
  });
  return {
    wanted,
    shown: computed(() => matching.value.slice(0, most)),
    matching,
    found: computed(() => matching.value.length),
    all: computed(() => (list() ?? []).length),
  };
}
