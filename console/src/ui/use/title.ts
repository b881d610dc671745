// The tab says what its page is about.
import { watchEffect } from "vue";

/** Name the tab by the subject of its page, as soon as that is known. */
export function useTitle(what: string, subject: () => string | undefined): void {
  watchEffect(() => {
    const name = subject();
    if (name) document.title = `${name} · ${what} · Jamb`;
  });
}
