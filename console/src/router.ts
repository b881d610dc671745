// Every page has an address that can be shared.
import { createRouter, createWebHistory } from "vue-router";
import { can, current, restore } from "./api/session";
import { failed, loadAnew } from "./frame/failures";
import { isUnsaved, mayLeave } from "./ui/use/unsaved";
import { languageFor, say, speak } from "./texts";
import { noted, t } from "./texts/sentences";

export const router = createRouter({
  history: createWebHistory(),
  scrollBehavior: (to, from, saved) =>
    saved ??
    (to.query.cursor !== from.query.cursor
      ? { top: 0 }
      : to.hash && to.name !== "allow" && to.name !== "sign-out"
        ? { el: to.hash }
        : to.path === from.path
          ? {}
          : { top: 0 }),
  routes: [
    {
      path: "/sign-in",
      name: "sign-in",
      component: () => import("./pages/entry/SignIn.vue"),
      meta: { text: "sign_in.title", open: true },
    },
    {
      path: "/handover/:id",
      name: "handover",
      component: () => import("./pages/credentials/Handover.vue"),
      meta: { title: noted("A handover link"), open: true, byHash: true },
    },
    {
      path: "/sign-in-link/:id",
      name: "sign-in-link",
      component: () => import("./pages/entry/SignInLink.vue"),
      meta: { text: "link.choose", open: true, byHash: true },
    },
    {
      path: "/token",
      name: "token",
      component: () => import("./pages/entry/Token.vue"),
      meta: { title: noted("Read a token"), open: true },
    },
    {
      path: "/help/:page?",
      name: "help",
      component: () => import("./pages/help/Help.vue"),
      meta: { title: noted("Help"), open: true, framed: true },
    },
    {
      path: "/password",
      name: "password",
      component: () => import("./pages/own/Password.vue"),
      meta: { text: "all.your_sign_in" },
    },
    {
      path: "/device",
      name: "device",
      component: () => import("./pages/entry/Device.vue"),
      meta: { text: "device.title", byHash: true },
    },
    {
      path: "/allow",
      name: "allow",
      component: () => import("./pages/entry/Allow.vue"),
      meta: { text: "allow.title", open: true, byHash: true },
    },
    {
      path: "/sign-out",
      name: "sign-out",
      component: () => import("./pages/entry/SignOut.vue"),
      meta: { text: "sign_out.title", open: true, byHash: true },
    },
    {
      path: "/applications",
      name: "applications",
      component: () => import("./pages/own/Applications.vue"),
      meta: { text: "applications.title" },
    },
    { path: "/", name: "today", component: () => import("./pages/audit/Today.vue"), meta: { title: noted("Today") } },
    {
      path: "/clients",
      name: "clients",
      component: () => import("./pages/clients/Clients.vue"),
      meta: { title: noted("Clients") },
    },
    {
      path: "/register/:id?",
      name: "register",
      component: () => import("./pages/clients/Register.vue"),
      meta: { title: noted("Register a client") },
    },
    {
      path: "/charter",
      name: "charter",
      component: () => import("./pages/charters/Charter.vue"),
      meta: { title: noted("Charter") },
    },
    {
      path: "/clients/:id/sign-in",
      name: "sign-in-steps",
      component: () => import("./pages/clients/SignInSteps.vue"),
      meta: { title: noted("Sign-in, step by step") },
    },
    {
      path: "/clients/:id",
      name: "dossier",
      component: () => import("./pages/clients/Dossier.vue"),
      meta: { title: noted("Client") },
    },
    {
      path: "/clients/:id/consent",
      name: "consent",
      component: () => import("./pages/consent/Consent.vue"),
      meta: { title: noted("Consent") },
    },
    {
      path: "/desk",
      name: "desk",
      component: () => import("./pages/consent/Desk.vue"),
      meta: { title: noted("Consent desk") },
    },
    {
      path: "/rotation",
      name: "rotation",
      component: () => import("./pages/credentials/rotation/Rotation.vue"),
      meta: { title: noted("Rotation") },
    },
    {
      path: "/desk/:id",
      name: "request",
      component: () => import("./pages/consent/Request.vue"),
      meta: { title: noted("A request") },
    },
    {
      path: "/people",
      name: "people",
      component: () => import("./pages/directory/People.vue"),
      meta: { title: noted("People") },
    },
    {
      path: "/audit/excess",
      name: "excess",
      component: () => import("./pages/audit/Excess.vue"),
      meta: { title: noted("Excess") },
    },
    {
      path: "/audit/escalation-paths",
      name: "escalation",
      component: () => import("./pages/audit/Escalation.vue"),
      meta: { title: noted("Escalation") },
    },
    {
      path: "/audit/consents",
      name: "consents",
      component: () => import("./pages/consent/Consents.vue"),
      meta: { title: noted("Consents") },
    },
    {
      path: "/audit/removed",
      name: "removed",
      component: () => import("./pages/clients/Removed.vue"),
      meta: { title: noted("Removed") },
    },
    {
      path: "/reviews",
      name: "reviews",
      component: () => import("./pages/audit/Reviews.vue"),
      meta: { title: noted("Reviews") },
    },
    {
      path: "/reviews/:id",
      name: "review",
      component: () => import("./pages/audit/Review.vue"),
      meta: { title: noted("A review") },
    },
    { path: "/audit", name: "audit", component: () => import("./pages/audit/Audit.vue"), meta: { title: noted("Audit") } },
    {
      path: "/resources/:name?",
      name: "resources",
      component: () => import("./pages/resources/Resources.vue"),
      meta: { title: noted("Resources") },
    },
    {
      path: "/directory",
      name: "directory",
      component: () => import("./pages/directory/Directory.vue"),
      meta: { title: noted("Directory") },
    },
    {
      path: "/:rest(.*)*",
      name: "nowhere",
      component: () => import("./pages/entry/Nowhere.vue"),
      meta: { title: noted("Nothing here") },
    },
  ],
});

// How long a page waits for the file of its language: it is shown in English then, until that comes.
const LANGUAGE_MS = 2000;

// Pages are in the reader's language, if there is a file of it.
router.beforeEach(() => within(LANGUAGE_MS, speak(languageFor(navigator.languages))));

router.beforeEach(async (to, from) => {
  if (to.path !== from.path && from.matched.length && !from.meta.open && current.value && !(await mayLeave())) return false;
  try {
    await restore();
  } catch (error) {
    failed.value = { kind: "start", error, to: to.fullPath };
    return false;
  }
  if (failed.value?.kind === "start") failed.value = null;
  if (!current.value && !to.meta.open) return { name: "sign-in", query: to.fullPath === "/" ? {} : { then: to.fullPath } };
  // Who must set up a second factor first does that.
  if (current.value?.factor_due && !to.meta.open && to.name !== "password") return { name: "password" };
  // Who only owns clients has no day to look at: their clients are their first page.
  if (to.name === "today" && !can("today.read") && can("clients.list")) return { name: "clients" };
  return true;
});

// A part of the console that does not come: after an update it has another name, and the page is loaded anew.
router.onError(async (error, to) => {
  const served = await fetch("/", { cache: "no-store" }).then(
    (answer) => answer.ok,
    () => false,
  );
  if (!served || isUnsaved() || !loadAnew(to.fullPath)) failed.value = { kind: "part", error, to: to.fullPath };
});

router.afterEach((to, from, failure) => {
  if (failure) return;
  if (failed.value?.kind === "part") failed.value = null;
  document.title = `${to.meta.text ? say(String(to.meta.text)) : t(String(to.meta.title))} · Jamb`;
  // Keyboard and screen reader users start each page at its heading.
  if (from.name && to.path !== from.path) window.setTimeout(() => startAtHeading(40), 50);
});

/** Wait for something, but no longer than that. */
const within = (ms: number, what: Promise<void>): Promise<void> =>
  Promise.race([what, new Promise<void>((done) => window.setTimeout(done, ms))]);

/** Move the focus to the page's heading, which some pages have only once their data is there. Never from a field in use. */
function startAtHeading(tries: number): void {
  if (document.activeElement?.matches("main input, main select, main textarea")) return;
  const heading = document.querySelector<HTMLElement>("h1");
  if (heading) heading.focus({ preventScroll: true });
  else if (tries > 0 && document.activeElement?.matches("body, main")) window.setTimeout(() => startAtHeading(tries - 1), 50);
}
