// A field whose word is looked for a moment after it was typed, as in the address of a list. Whoever leaves meanwhile has left.
import { type Ref, onBeforeUnmount, ref, watch } from "vue";
import { onBeforeRouteLeave } from "vue-router";

const PAUSE_MS = 250;

/** `said`: the word that is looked for. `say`: puts another in its place. Returns the field, and what to call as one types. */
export function useTyped(said: () => string, say: (word: string) => void): { wanted: Ref<string>; typed: () => void } {
  const wanted = ref(said());
  // A blank at the end is of a word to come.
  watch(said, (word) => {
    if (word !== wanted.value.trim()) wanted.value = word;
  });
  let pause = 0;
  const stop = () => window.clearTimeout(pause);
  onBeforeUnmount(stop);
  // On the way to a page that is still fetched this one is there yet, and would lead back to itself.
  onBeforeRouteLeave(stop);
  return {
    wanted,
    typed: () => {
      stop();
      pause = window.setTimeout(() => say(wanted.value.trim()), PAUSE_MS);
    },
  };
}
