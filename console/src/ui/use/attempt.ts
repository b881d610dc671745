// Something that a person set off: while it goes on they wait, and what went wrong is said.
import { type Ref, ref } from "vue";

export interface Attempt {
  busy: Ref<boolean>;
  error: Ref<unknown>;
  attempt: (work: () => Promise<unknown>) => Promise<void>;
}

export function useAttempt(): Attempt {
  const busy = ref(false);
  const error = ref<unknown>(null);
  async function attempt(work: () => Promise<unknown>): Promise<void> {
    busy.value = true;
    error.value = null;
    try {
      await work();
    } catch (problem) {
      error.value = problem;
    } finally {
      busy.value = false;
    }
  }
  return { busy, error, attempt };
}
