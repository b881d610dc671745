// A list as it is filtered, whole, as a file: read page by page, so that its length does not matter.
import { computed, ref } from "vue";
import { save } from "./save";

interface Page<T> {
  items: T[];
  next?: string | null;
  total?: number | null;
}
export type Cell = string | number | boolean | null | undefined;

/** One line of CSV (RFC 4180). What a table program would take for a formula is led by an apostrophe. */
export function csvLine(cells: Cell[]): string {
  const written = cells.map((cell) => {
    const text = String(cell ?? "");
    const safe = typeof cell === "string" && /^[=+\-@\t\r]/.test(text) ? `'${text}` : text;
    return /[",\r\n]/.test(safe) ? `"${safe.replaceAll('"', '""')}"` : safe;
  });
  return `${written.join(",")}\r\n`;
}

/** `read`: returns the page after a cursor. `columns`: what each column is called, and what stands in it. */
export function useExport<T>(
  name: string,
  read: (cursor: string | undefined) => Promise<Page<T>>,
  columns: Record<string, (one: T) => Cell>,
) {
  const done = ref(0);
  const total = ref<number | null>(null);
  const running = ref(false);
  const error = ref<unknown>(null);

  async function run(form: "csv" | "jsonl"): Promise<void> {
    if (running.value) return;
    running.value = true;
    error.value = null;
    done.value = 0;
    const parts = form === "csv" ? [csvLine(Object.keys(columns))] : [];
    try {
      for (let cursor: string | undefined, more = true; more;) {
        const page: Page<T> = await read(cursor);
        for (const one of page.items) {
          const row = Object.entries(columns).map(([column, cell]) => [column, cell(one)] as const);
          parts.push(form === "csv" ? csvLine(row.map(([, cell]) => cell)) : `${JSON.stringify(Object.fromEntries(row))}\n`);
        }
        done.value += page.items.length;
        total.value = page.total ?? null;
        cursor = page.next ?? undefined;
        more = cursor !== undefined;
      }
      save(`${name}-${new Date().toISOString().slice(0, 10)}.${form}`, parts.join(""));
    } catch (problem) {
      error.value = problem;
    } finally {
      running.value = false;
    }
  }
  const progress = computed(() => (running.value ? `${done.value}${total.value ? ` of ${total.value}` : ""} read …` : ""));
  return { run, running, progress, error };
}
