// What a browser has and this one lacks, before anything of the console is read.
import { forward } from "./forward";

// A browser reads an address without a host as one of the page's own.
globalThis.Request = class extends Request {
  constructor(input: RequestInfo | URL, init?: RequestInit) {
    super(typeof input === "string" ? new URL(input, window.location.origin) : input, init);
  }
};
globalThis.fetch = (input, init) => forward.to(input, init);
