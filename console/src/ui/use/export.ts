// A list as it is filtered, whole, as a file: read page by page, so that its length does not matter.
import { type MaybeRefOrGetter, computed, ref, toValue } from "vue";
import { ApiError, problemFrom } from "@/api/problems";
import { save } from "./save";
import { figure } from "./words";
import { t } from "@/texts/sentences";

export interface Page<T> {
  items: T[];
  next?: string | null;
  total?: number | null;
}
export type Cell = string | number | boolean | null | undefined;
export type Columns<T> = Record<string, (one: T) => Cell>;
// What a browser holds at once; a list that is longer is taken by the command line, or is filtered first.
export const MOST_ROWS = 50_000;

/** A list that is here already, as a page. */
export const whole = <T>(list: readonly T[] | undefined) => Promise.resolve({ items: [...(list ?? [])] });

/** What stands in a thing of the API, a cell each: what is within it by both names, of several things their names. */
export function flat(one: object): Record<string, Cell> {
  const cells: Record<string, Cell> = {};
  for (const [name, value] of Object.entries(one)) {
    if (Array.isArray(value)) cells[name] = value.map(named).join("; ");
    else if (value !== null && typeof value === "object")
      for (const [inner, cell] of Object.entries(flat(value))) cells[`${name}.${inner}`] = cell;
    else cells[name] = value as Cell;
  }
  return cells;
}

function named(one: unknown): string {
  if (one === null || typeof one !== "object") return String(one);
  const { name, title, id } = one as Record<string, unknown>;
  return String(name ?? title ?? id ?? JSON.stringify(one));
}

/** One line of CSV (RFC 4180). What a table program would take for a formula is led by an apostrophe. */
export function csvLine(cells: Cell[]): string {
  const written = cells.map((cell) => {
    const text = String(cell ?? "");
    const safe = typeof cell === "string" && /^[=+\-@\t\r]/.test(text) ? `'${text}` : text;
    return /[",\r\n]/.test(safe) ? `"${safe.replaceAll('"', '""')}"` : safe;
  });
  return `${written.join(",")}\r\n`;
}

/**
 * `read`: returns the page after a cursor. `columns`: what each column is called, and what stands in it; without, a table
 * has all that the API tells, and lines have it as it is told.
 */
export function useExport<T>(name: MaybeRefOrGetter<string>, read: (cursor: string | undefined) => Promise<Page<T>>, columns?: Columns<T>) {
  const done = ref(0);
  const total = ref<number | null>(null);
  const running = ref(false);
  const error = ref<unknown>(null);

  async function run(form: "csv" | "jsonl"): Promise<void> {
    if (running.value) return;
    running.value = true;
    error.value = null;
    done.value = 0;
    const found: T[] = [];
    try {
      for (let cursor: string | undefined, more = true; more;) {
        const page: Page<T> = await read(cursor);
        found.push(...page.items);
        done.value = found.length;
        if (found.length > MOST_ROWS) throw tooMany();
        total.value = page.total ?? null;
        cursor = page.next ?? undefined;
        more = cursor !== undefined;
      }
      save(
        `${toValue(name)}-${new Date().toISOString().slice(0, 10)}.${form}`,
        form === "csv" ? table(found, columns) : lines(found, columns),
      );
    } catch (problem) {
      error.value = problem;
    } finally {
      running.value = false;
    }
  }
  const progress = computed(() =>
    !running.value ? "" : total.value ? t`${figure(done.value)} of ${figure(total.value)} read …` : t`${figure(done.value)} read …`,
  );
  return { run, running, progress, error };
}

const tooMany = () =>
  new ApiError(
    problemFrom(
      {
        detail: t`There are more than ${figure(MOST_ROWS)} of them: nothing was saved.`,
        next_step: t`Filter the list first, or take it by the command line.`,
      },
      413,
    ),
  );

const cellsOf = <T>(one: T, columns?: Columns<T>): Record<string, Cell> =>
  columns ? Object.fromEntries(Object.entries(columns).map(([column, cell]) => [column, cell(one)])) : flat(one as object);

function table<T>(list: T[], columns?: Columns<T>): string {
  const rows = list.map((one) => cellsOf(one, columns));
  const names = columns ? Object.keys(columns) : [...new Set(rows.flatMap((row) => Object.keys(row)))];
  return csvLine(names) + rows.map((row) => csvLine(names.map((name) => row[name]))).join("");
}

const lines = <T>(list: T[], columns?: Columns<T>): string =>
  list.map((one) => `${JSON.stringify(columns ? cellsOf(one, columns) : one)}\n`).join("");
