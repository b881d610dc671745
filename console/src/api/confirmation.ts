// Some changes want whoever is signed in to show once more that it is they. The call waits meanwhile, and is made again.
import { ref } from "vue";

/** Whether somebody is being asked. */
export const asking = ref(false);
let answer: ((shown: boolean) => void) | null = null;
let asked: Promise<boolean> | null = null;

/** Ask whoever is there, once for all calls that wait; tell whether they showed it. */
export function confirmed(): Promise<boolean> {
  asked ??= new Promise<boolean>((resolve) => {
    answer = resolve;
    asking.value = true;
  });
  return asked;
}

export function settle(shown: boolean): void {
  asking.value = false;
  asked = null;
  answer?.(shown);
  answer = null;
}
