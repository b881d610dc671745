// A question over the page that is answered by yes or no.
import { shallowRef } from "vue";

export interface Asked {
  title: string;
  text: string;
  /** What the two buttons do; the one that changes nothing has the focus. */
  yes: string;
  no?: string;
}

export const question = shallowRef<(Asked & { answer: (yes: boolean) => void }) | null>(null);

/** Ask, and return whether the answer was yes. A question that is open is answered by no. */
export function askFirst(asked: Asked): Promise<boolean> {
  question.value?.answer(false);
  return new Promise((resolve) => {
    question.value = {
      ...asked,
      answer: (yes) => {
        question.value = null;
        resolve(yes);
      },
    };
  });
}
