import { mount } from "@vue/test-utils";
import { expect, test } from "vitest";
import { ApiError, problemFrom, problemOf } from "@/api/problems";
import FurtherFields, { furtherOf, saidIn } from "@/pages/clients/FurtherFields.vue";
import { useAttempt } from "@/ui/use/attempt";
import { useRows } from "@/ui/use/rows";

// No layout here: nothing can be scrolled to.
Element.prototype.scrollIntoView = () => {};

test("an attempt is busy while it goes on, and says what went wrong once", async () => {
  const { busy, error, attempt } = useAttempt();
  let end = () => {};
  const going = attempt(() => new Promise<void>((resolve) => (end = resolve)));
  expect(busy.value).toBe(true);
  end();
  await going;
  await attempt(() => Promise.reject(new ApiError(problemFrom({ detail: "Taken." }, 409))));
  expect([busy.value, problemOf(error.value).detail]).toEqual([false, "Taken."]);
  await attempt(() => Promise.resolve());
  expect(error.value).toBeNull();
});

test("a body that is no problem document still says something", () => {
  expect(problemFrom("<html>", 502).detail).toBe("The service answered 502.");
  expect(problemOf(new TypeError("fetch")).status).toBe(0);
});

test("j and k move within the rows, and Enter opens the chosen one; not while somebody types", () => {
  const opened: number[] = [];
  const page = mount(
    {
      setup: () =>
        useRows(
          () => 2,
          (place) => opened.push(place),
        ),
      template: `<div><input /><p id="row-0" tabindex="-1" /><p id="row-1" tabindex="-1" /></div>`,
    },
    { attachTo: document.body },
  );
  const press = (key: string, on: Element = document.body) => on.dispatchEvent(new KeyboardEvent("keydown", { key, bubbles: true }));
  press("Enter");
  press("j", page.get("input").element);
  for (const key of ["j", "j", "j", "k", "k", "k", "j"]) press(key);
  expect(document.activeElement?.id).toBe("row-1");
  press("Enter");
  page.unmount();
  press("Enter");
  expect(opened).toEqual([1]);
});

test("the fields of a registration say what was typed, tidied", async () => {
  const fields = furtherOf({
    kind: "web",
    grant_types: ["authorization_code", "refresh_token", "client_credentials"],
    redirect_uris: ["https://a.example/x"],
    post_logout_redirect_uris: [],
    backchannel_logout_uri: "",
    sign_in_groups: ["watch"],
    publisher: "maker.example",
    support_contact: "",
    client_uri: "",
    policy_uri: "https://maker.example/privacy",
    tos_uri: "",
  });
  const form = mount(FurtherFields, { props: { modelValue: fields, kind: "web" } });
  await form.get("textarea").setValue(" https://a.example/x \n\n https://b.example/y");
  await form.findAll("input")[0]?.setValue(" https://a.example/told ");
  const [code, refresh] = form.findAll("input[type=checkbox]");
  expect((code?.element as HTMLInputElement).checked).toBe(true);
  await refresh?.setValue(false);
  await form.findAll("input:not([type=checkbox])")[3]?.setValue(" help@maker.example ");
  expect(saidIn(fields, "service")).toMatchObject({ redirect_uris: [], backchannel_logout_uri: "", publisher: "maker.example" });
  expect(saidIn(furtherOf(), "native").grant_types).toEqual([]);
  expect(saidIn(fields, "browser").grant_types).toEqual(["authorization_code"]);
  // One stays, and what was switched off for another kind switches nothing off here.
  const device = { ...furtherOf(), without: "authorization_code refresh_token" };
  expect(saidIn(device, "native").grant_types).toEqual(["urn:ietf:params:oauth:grant-type:device_code"]);
  expect(saidIn(device, "browser").grant_types).toEqual([]);
  const native = mount(FurtherFields, { props: { modelValue: device, kind: "native" } });
  const boxes = native.findAll("input[type=checkbox]").map((box) => box.element as HTMLInputElement);
  expect(boxes.map((box) => [box.checked, box.disabled])).toEqual([
    [false, false],
    [false, false],
    [true, true],
  ]);
  expect(saidIn(fields, "web")).toEqual({
    redirect_uris: ["https://a.example/x", "https://b.example/y"],
    post_logout_redirect_uris: [],
    backchannel_logout_uri: "https://a.example/told",
    sign_in_groups: ["watch"],
    publisher: "maker.example",
    support_contact: "help@maker.example",
    client_uri: "",
    policy_uri: "https://maker.example/privacy",
    tos_uri: "",
    grant_types: ["authorization_code", "client_credentials"],
  });
});
