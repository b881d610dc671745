// Calls that wait for the person: to show once more that it is they, or to sign in again. They are made again afterwards.
import { type Ref, ref } from "vue";

/** A question over the page, asked once for all calls that wait for its answer. */
interface Question {
  asking: Ref<boolean>;
  ask: () => Promise<boolean>;
  settle: (shown: boolean) => void;
}

function question(): Question {
  const asking = ref(false);
  let answer: ((shown: boolean) => void) | null = null;
  let asked: Promise<boolean> | null = null;
  return {
    asking,
    ask: () =>
      (asked ??= new Promise<boolean>((resolve) => {
        answer = resolve;
        asking.value = true;
      })),
    settle: (shown) => {
      asking.value = false;
      asked = null;
      answer?.(shown);
      answer = null;
    },
  };
}

const confirmation = question();
/** Whether somebody is being asked who they are. */
export const asking = confirmation.asking;
export const confirmed = confirmation.ask;
export const settle = confirmation.settle;

const ended = question();
/** Whether the session has ended, and the person is asked to sign in again. */
export const sessionOver = ended.asking;
export const signedInAgain = ended.ask;
export const settleSession = ended.settle;
