// What people read on the pages for everybody is in one file: another language is another file, and nothing stays behind.
import { parse } from "@vue/compiler-sfc";
import { afterEach, expect, test } from "vitest";
import SignIn from "@/pages/entry/SignIn.vue";
import SignIns from "@/pages/own/SignIns.vue";
import { ApiError, problemFrom } from "@/api/problems";
import { type Texts, languageFor, say, speak } from "@/texts";
import english from "@/texts/en.json";
import { marked } from "@/texts/marked";
import ProblemNote from "@/ui/ProblemNote.vue";
import { ago, day } from "@/ui/use/times";
import { answering, shown } from "./answers";
import { forward } from "./forward";

// What administrators alone come to has its words in place.
const OF_ADMINISTRATORS = new Set(["Nowhere.vue", "Token.vue"]);
const files = import.meta.glob<string>(
  ["/src/pages/{entry,own}/*.vue", "/src/frame/{AskFirst,ConfirmItIsYou,Failed,SessionOver}.vue", "/src/router.ts"],
  {
    query: "?raw",
    import: "default",
    eager: true,
  },
);
// What every page is made of: everybody reads it.
const SHARED = ["/src/ui/Loadable.vue", "/src/ui/Moment.vue"];
const ALSO = import.meta.glob<string>(
  ["/src/texts/problems.ts", "/src/api/problems.ts", "/src/ui/use/{times,unsaved}.ts", "/src/ui/*.vue"],
  {
    query: "?raw",
    import: "default",
    eager: true,
  },
);
const PAGES = Object.keys(files).filter((file) => file.endsWith(".vue") && !OF_ADMINISTRATORS.has(file.replace(/^.*\//, "")));
const READ = new Set(["title", "lead", "label", "hint", "placeholder", "aria-label", "alt", "what"]);
const WORDS = /\p{L}{2,}/u;
// A text in quotes, of more than one word, within a program.
const SENTENCE = /(["'`])(?:(?!\1)[^\\\n$<>{}=/])*?\p{L}{2,} \p{L}+(?:(?!\1)[^\\\n])*?\1/gu;

interface Node {
  type: number;
  content?: string | Node;
  children?: Node[];
  props?: { type: number; name: string; value?: { content: string }; exp?: { content: string } }[];
}

/** Yield every text that stands in a template itself. */
function* inPlace(node: Node): Generator<string> {
  if (node.type === 2 && typeof node.content === "string" && WORDS.test(node.content)) yield node.content.trim();
  if (node.type === 5 && typeof node.content === "object") yield* sentences(String(node.content.content));
  for (const one of node.props ?? []) {
    if (one.type === 6 && READ.has(one.name) && WORDS.test(one.value?.content ?? "")) yield `${one.name}: ${one.value?.content}`;
    if (one.type === 7) yield* sentences(one.exp?.content ?? "");
  }
  for (const child of node.children ?? []) yield* inPlace(child);
}

function* sentences(program: string): Generator<string> {
  for (const [found] of program.matchAll(SENTENCE)) yield found;
}

const keysOf = (held: object, before = ""): string[] =>
  Object.entries(held).flatMap(([key, one]) =>
    typeof one === "string" || "other" in (one as object) ? [`${before}${key}`] : keysOf(one as object, `${before}${key}.`),
  );

afterEach(async () => {
  forward.reset();
  await speak("en");
  document.body.innerHTML = "";
});

test.each([...PAGES, ...SHARED])("%s has no words of its own", (page) => {
  const { descriptor } = parse(files[page] ?? ALSO[page] ?? "");
  const program = (descriptor.scriptSetup?.content ?? "").replace(/^\s*\/\/.*$|^import .*$/gm, "");
  expect([...inPlace(descriptor.template?.ast as unknown as Node), ...sentences(program)]).toEqual([]);
});

test("every text that is asked for is there, and none is there for nothing", () => {
  const program = [...[...PAGES, "/src/router.ts"].map((file) => files[file]), ...Object.values(ALSO)].join("\n");
  const asked = new Set([...program.matchAll(/["'`]([a-z_]+(?:\.[a-z_]+)+)["'`]/g)].map((found) => found[1]));
  const begun = [...program.matchAll(/`([a-z_]+(?:\.[a-z_]+)*\.)\$\{/g)].map((found) => String(found[1]));
  const there = keysOf(english);
  const known = new Set(Object.keys(english));
  expect([...asked].filter((key) => known.has(String(key).split(".")[0] ?? "") && !there.includes(String(key)))).toEqual([]);
  expect(there.filter((key) => !asked.has(key) && !begun.some((beginning) => key.startsWith(beginning)))).toEqual([]);
});

test("in another language a page has no English left, and counts as that language does", async () => {
  const theirs = marked(english) as Texts & { sign_ins: { ended: Record<string, string> } };
  theirs.sign_ins.ended = { one: "⟦1⟧", few: "⟦few⟧", other: "⟦many⟧" };
  // Counts in three forms.
  await speak("cs", theirs as Texts);
  expect(document.documentElement.lang).toBe("cs");
  expect([1, 3, 7].map((count) => say("sign_ins.ended", { count }))).toEqual(["⟦1⟧", "⟦few⟧", "⟦many⟧"]);
  const outside = (text: string) => text.replace(/⟦[^⟦⟧]*(?:⟦[^⟦⟧]*⟧[^⟦⟧]*)*⟧/g, "").replace(/\s+/g, " ");
  answering({});
  const { page } = await shown(SignIn, {}, "/sign-in?refused=late");
  expect(page.get("h1").text()).toMatch(/^⟦S/);
  expect(outside(page.text()).replace("Jamb", "").trim()).toBe("");
  answering({ "GET /api/v1/session/sign-ins": { sign_ins: [], total: 2 } });
  const own = await shown(SignIns, {}, "/own");
  expect(outside(own.page.text()).trim()).toBe("");
});

test("what another language leaves out is English, and what nobody has is a mistake", async () => {
  await speak("nl", { all: { cancel: "Annuleren" } } as unknown as Texts);
  expect([say("all.cancel"), say("all.decline"), say("allow.sign_in", { application: "Tide" })]).toEqual([
    "Annuleren",
    "Decline",
    "Sign in for Tide",
  ]);
  expect(() => say("all.nothing")).toThrow("There is no text all.nothing.");
});

test("a refusal is said in the language that is spoken, by its kind, and what has no words there is marked as English", async () => {
  await speak("nl", { problems: { "too-many-tries": { detail: "Te vaak geprobeerd.", next_step: "Wacht even." } } } as unknown as Texts);
  const refused = (kind: string) =>
    new ApiError(
      problemFrom(
        {
          type: `urn:jamb:problem:${kind}`,
          detail: "Six of six.",
          next_step: "In 5 minutes.",
          fields: [{ field: "login", sent: "x", allowed: "y", next_step: "" }],
        },
        429,
      ),
    );
  const known = (await shown(ProblemNote, { error: refused("too-many-tries") })).page;
  expect(known.findAll("p").map((one) => one.text())).toEqual(["Te vaak geprobeerd.", "Wacht even."]);
  expect(known.get("ul").attributes("lang")).toBe("en");
  const other = (await shown(ProblemNote, { error: refused("top-role") })).page;
  expect(other.findAll("p").map((one) => [one.text(), one.attributes("lang")])).toEqual([
    ["Six of six.", "en"],
    ["In 5 minutes.", "en"],
  ]);
  await speak("en");
  // In English the service says more than any kind could.
  const english = (await shown(ProblemNote, { error: refused("too-many-tries") })).page;
  expect(english.findAll("[lang]")).toEqual([]);
  expect(english.text()).toContain("Six of six.");
});

test("a language that comes late is not spoken where another was wanted meanwhile", async () => {
  const late = speak("nl", new Promise((come) => setTimeout(() => come({ all: { cancel: "Annuleren" } } as unknown as Texts), 5)));
  await speak("en");
  await late;
  expect([say("all.cancel"), document.documentElement.lang]).toEqual(["Cancel", "en"]);
});

test("times are told as in the language that is spoken", async () => {
  const at = "2026-03-02T10:30:00Z";
  const told = () => [day(at), ago(at, Date.parse("2026-03-05T10:30:00Z")), ago(at, Date.parse(at))];
  expect(told()).toEqual(["2 Mar 2026", "3 days ago", "just now"]);
  await speak("nl", { times: { just_now: "zojuist" } } as unknown as Texts);
  expect(told()).toEqual(["2 mrt 2026", "3 dagen geleden", "zojuist"]);
});

test("the first language that is wanted and that there is", () => {
  const known = ["en", "nl", "pt-BR"];
  expect(languageFor(["nl-BE", "en"], known)).toBe("nl");
  expect(languageFor(["pt-br"], known)).toBe("pt-BR");
  expect(languageFor(["pt-PT", "fr"], known)).toBe("en");
});
