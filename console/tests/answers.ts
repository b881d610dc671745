// A service that answers as it is told, and remembers what it was asked.
import { VueQueryPlugin } from "@tanstack/vue-query";
import { flushPromises, mount } from "@vue/test-utils";
import type { Component } from "vue";
import { createMemoryHistory, createRouter } from "vue-router";
import { forward } from "./forward";

export interface Asked {
  what: string;
  body: unknown;
  headers: Headers;
}
type Answer = unknown | ((asked: URL) => unknown);

/** Answer by `METHOD /path`; a number is an empty answer of that status, a `Response` is itself. */
export function answering(answers: Record<string, Answer>): Asked[] {
  const asked: Asked[] = [];
  forward.to = async (input) => {
    const request = input as Request;
    const text = await request.clone().text();
    const url = new URL(request.url);
    const what = `${request.method} ${url.pathname}`;
    asked.push({ what, body: text ? JSON.parse(text) : undefined, headers: request.headers });
    const told = answers[what];
    const answer = typeof told === "function" ? await told(url) : told;
    if (answer instanceof Response) return answer;
    if (answer === undefined) return problem(404, `Nothing is at ${what}.`);
    if (typeof answer === "number") return new Response(null, { status: answer });
    return new Response(JSON.stringify(answer), { headers: { "content-type": "application/json" } });
  };
  return asked;
}

export function problem(status: number, detail: string, more: object = {}): Response {
  const headers = { "content-type": "application/problem+json" };
  return new Response(JSON.stringify({ detail, status, ...more }), { status, headers });
}

/** Show a component as the console does, at an address, with every page's name known. */
export async function shown(what: Component, props: object = {}, at = "/") {
  const nothing = { template: "<i />" };
  const routes = ["sign-in", "request", "token", "dossier"].map((name) => ({ name, path: `/${name}/:id?`, component: nothing }));
  const router = createRouter({ history: createMemoryHistory(), routes: [...routes, { path: "/:page?/:id?", component: nothing }] });
  await router.push(at);
  const page = mount(what, { props, global: { plugins: [router, VueQueryPlugin] }, attachTo: document.body });
  await flushPromises();
  return { page, router };
}
