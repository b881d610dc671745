import { problemOf } from "@/api/problems";
import { expect, test, vi } from "vitest";
import * as saving from "@/ui/use/save";
import { csvLine, flat, MOST_ROWS, useExport, whole } from "@/ui/use/export";

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

test("without columns a table has all that is told, and lines have it as it is told", async () => {
  const saved = vi.spyOn(saving, "save").mockImplementation(() => {});
  saved.mockClear();
  const people = [
    { id: "1", name: "Pia", roles: ["auditor", "steward"], groups: [{ name: "crew" }], where: { kind: "only", in: [] } },
    { id: "2", name: "=Yuki", roles: [], active: false },
  ];
  expect(flat(people[0]!)).toEqual({
    id: "1",
    name: "Pia",
    roles: "auditor; steward",
    groups: "crew",
    "where.kind": "only",
    "where.in": "",
  });
  const list = useExport("people", () => whole<object>(people));
  await list.run("csv");
  expect(saved.mock.calls[0]?.[1]).toBe(
    "id,name,roles,groups,where.kind,where.in,active\r\n1,Pia,auditor; steward,crew,only,,\r\n2,'=Yuki,,,,,false\r\n",
  );
  await list.run("jsonl");
  expect(String(saved.mock.calls[1]?.[1]).split("\n")[1]).toBe(JSON.stringify(people[1]));
});

test("a list that is longer than a browser should hold is not saved in part", async () => {
  const saved = vi.spyOn(saving, "save").mockImplementation(() => {});
  saved.mockClear();
  const list = useExport("rows", async () => ({ items: Array.from({ length: 20_000 }, () => ({ n: 1 })), next: "more" }));
  await list.run("csv");
  expect([saved.mock.calls.length, problemOf(list.error.value).detail]).toEqual([
    0,
    "There are more than 50,000 of them: nothing was saved.",
  ]);
  expect(MOST_ROWS).toBe(50_000);
});
