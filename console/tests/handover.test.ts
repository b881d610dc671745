import { flushPromises } from "@vue/test-utils";
import { expect, test } from "vitest";
import Handover from "@/pages/credentials/Handover.vue";
import { answering, problem, shown } from "./answers";

const LINK = "/api/v1/handovers/17";
const OPENED = {
  client_name: "Nightly reader",
  directory_name: "Alder Works",
  made_by: "Ines",
  made_at: "2026-03-02T09:00:00Z",
  expires_at: "2026-03-03T09:00:00Z",
  has_passphrase: false,
  note: "",
  state: "opened",
  opened_at: "2026-03-02T10:00:00Z",
  opened_from: "192.0.2.7",
};

test("whoever comes late reads of it once their try is noted, so that to close the page hides nothing", async () => {
  let end = (_: unknown) => {};
  window.history.replaceState(null, "", "/handover/17#the-key");
  const asked = answering({
    [`POST ${LINK}/look`]: OPENED,
    [`POST ${LINK}/opening`]: () => new Promise((resolve) => (end = resolve)),
  });
  const { page } = await shown(Handover, {}, "/handover/17");
  await flushPromises();
  expect(asked.map((one) => one.what)).toEqual([`POST ${LINK}/look`, `POST ${LINK}/opening`]);
  expect(page.text()).not.toContain("opened before");
  end(problem(409, "This link was opened before."));
  await flushPromises();
  expect(page.get("[role=alert]").text()).toContain("opened before");
});
