import { expect, test } from "vitest";
import { ref } from "vue";
import { ApiError, problemFrom } from "@/api/problems";
import { type Field, useMeanwhile } from "@/ui/use/meanwhile";

interface State {
  version: string;
  title: string;
  rule: string;
}
const outdated = () => new ApiError(problemFrom({ type: "urn:jamb:problem:outdated", detail: "Changed." }, 412));

test("what somebody else changed is chosen from; what one left alone is taken; then it is saved by what is there now", async () => {
  let there: State = { version: "v1", title: "Quay", rule: "all" };
  const form = { title: ref("Quay"), rule: ref("all") };
  const fields = (): Field<State>[] =>
    (["title", "rule"] as const).map((name) => ({
      label: name,
      read: (state) => state[name],
      mine: () => form[name].value,
      take: (state) => void (form[name].value = state[name]),
    }));
  const { rows, undecided, header, saving } = useMeanwhile(there, fields, async () => there);
  expect(header()).toEqual({ "If-Match": '"v1"' });

  form.title.value = "Pier";
  there = { version: "v2", title: "Mole", rule: "some" };
  expect(await saving(() => Promise.reject(outdated()))).toBe(false);
  expect(rows.value.map(({ label, mine, theirs, choice }) => [label, mine, theirs, choice])).toEqual([
    ["title", "Pier", "Mole", null],
    ["rule", "all", "some", "theirs"],
  ]);
  expect([undecided.value, form.rule.value, header()]).toEqual([true, "some", { "If-Match": '"v2"' }]);

  rows.value[0]!.choice = "theirs";
  expect([undecided.value, await saving(async () => {})]).toEqual([false, true]);
  expect([form.title.value, rows.value]).toEqual(["Mole", []]);
});

test("who makes something new says so, and another problem stays one", async () => {
  const { header, saving } = useMeanwhile<State>(
    undefined,
    () => [],
    async () => undefined,
  );
  expect(header()).toEqual({ "If-None-Match": "*" });
  await expect(saving(() => Promise.reject(outdated()))).rejects.toThrow("Changed.");
});
