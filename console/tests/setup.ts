// What a browser has and this one lacks, before anything of the console is read. The files of a worker share a page, which
// takes longer to make than most of them; what one of them keeps in a module is nothing to the next.
import { disableAutoUnmount, enableAutoUnmount } from "@vue/test-utils";
import { afterEach, vi } from "vitest";

// What a test leaves mounted still waits for something when the page of all tests is gone. Of each file anew.
disableAutoUnmount();
enableAutoUnmount(afterEach);

const page = globalThis as typeof globalThis & { prepared?: true };
if (!page.prepared) {
  page.prepared = true;
  // A browser reads an address without a host as one of the page's own.
  globalThis.Request = class extends Request {
    constructor(input: RequestInfo | URL, init?: RequestInit) {
      super(typeof input === "string" ? new URL(input, window.location.origin) : input, init);
    }
  };
}
vi.resetModules();
const { forward } = await import("./forward");
globalThis.fetch = (input, init) => forward.to(input, init);
