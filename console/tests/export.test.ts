import { expect, test, vi } from "vitest";
import * as saving from "@/ui/use/save";
import { csvLine, useExport } from "@/ui/use/export";

test("a cell is a cell: commas, quotes, lines, and nothing that a table program would run", () => {
  expect(csvLine(["a,b", 'say "no"', "two\nlines", "=1+1", "-x", -3, null, true])).toBe(
    '"a,b","say ""no""","two\nlines",\'=1+1,\'-x,-3,,true\r\n',
  );
});

test("a list is saved whole, over all its pages; what fails is said and nothing is saved", async () => {
  const saved = vi.spyOn(saving, "save").mockImplementation(() => {});
  const pages = [
    { items: [{ n: 1 }, { n: 2 }], next: "c", total: 3 },
    { items: [{ n: 3 }], next: null, total: 3 },
  ];
  const asked: (string | undefined)[] = [];
  const list = useExport(
    "clients",
    async (cursor) => {
      asked.push(cursor);
      return pages[asked.length - 1]!;
    },
    { number: (one) => one.n },
  );
  await list.run("jsonl");
  expect([asked, saved.mock.calls[0]?.[1]]).toEqual([[undefined, "c"], '{"number":1}\n{"number":2}\n{"number":3}\n']);
  expect(saved.mock.calls[0]?.[0]).toMatch(/^clients-\d{4}-\d\d-\d\d\.jsonl$/);
  await list.run("csv");
  expect([list.error.value !== null, list.running.value, saved.mock.calls.length]).toEqual([true, false, 1]);
});
