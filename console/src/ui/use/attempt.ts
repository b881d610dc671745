// Something that a person set off: while it goes on they wait, and what went wrong is said.
import { useQueryClient } from "@tanstack/vue-query";
import { type Ref, hasInjectionContext, ref } from "vue";
import { wasDone } from "@/api/problems";
import { saved } from "./unsaved";

export interface Attempt {
  busy: Ref<boolean>;
  error: Ref<unknown>;
  attempt: (work: () => Promise<unknown>) => Promise<void>;
}

/** While one goes on, another is not begun. What was done after all, though its answer was lost, is read anew. */
export function useAttempt(): Attempt {
  const queries = hasInjectionContext() ? useQueryClient() : null;
  const busy = ref(false);
  let going = false;
  const error = ref<unknown>(null);
  async function attempt(work: () => Promise<unknown>): Promise<void> {
    // Not asked of `busy`: an effect that makes an attempt is not run anew by it.
    if (going) return;
    going = busy.value = true;
    error.value = null;
    try {
      await work();
    } catch (problem) {
      error.value = problem;
      if (wasDone(problem)) {
        saved();
        await queries?.invalidateQueries();
      }
    } finally {
      going = busy.value = false;
    }
  }
  return { busy, error, attempt };
}
