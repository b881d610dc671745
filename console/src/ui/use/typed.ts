// A field whose word becomes part of the address a moment after it was typed. Whoever leaves meanwhile has left.
import { type Ref, onBeforeUnmount, ref, watch } from "vue";
import { onBeforeRouteLeave } from "vue-router";

const PAUSE_MS = 250;

/** `said`: the word as the address has it. `say`: puts another there. Returns the field, and what to call as one types. */
export function useTyped(said: () => string, say: (word: string) => void): { wanted: Ref<string>; typed: () => void } {
  const wanted = ref(said());
  watch(said, (word) => (wanted.value = word));
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
