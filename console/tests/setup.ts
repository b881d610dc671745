// What a browser has and this one lacks, before anything of the console is read.
import { enableAutoUnmount } from "@vue/test-utils";
import { afterEach } from "vitest";
import { forward } from "./forward";

// What a test leaves mounted still waits for something when the page of all tests is gone.
enableAutoUnmount(afterEach);

// A browser reads an address without a host as one of the page's own.
globalThis.Request = class extends Request {
  constructor(input: RequestInfo | URL, init?: RequestInit) {
    super(typeof input === "string" ? new URL(input, window.location.origin) : input, init);
  }
};
globalThis.fetch = (input, init) => forward.to(input, init);
