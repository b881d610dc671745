// How the console speaks to the service: every wait has a limit, and a change bears a name, so that one whose answer was
// lost is asked for again without being done twice (Idempotency-Key).
const READ_SECONDS = 20;
const CHANGE_SECONDS = 60;
const AGAIN_AFTER = [1_000, 3_000];
// Elsewhere (sessions, what people allow) nothing is kept under a name.
const NAMED = /^\/api\/v1\/directories\/[^/]+\//;

/** There was no answer. `late`: it took too long; else nobody was there. */
export class Unanswered extends Error {
  constructor(
    readonly change: boolean,
    readonly late: boolean,
  ) {
    super("no answer");
  }
}

/** An answer that was read whole, to be given to each who asked. */
type Read = () => Response;
// Changes under way, and the names of those whose answer was lost: whoever presses twice asks once.
const going = new Map<string, Promise<Read>>();
const lost = new Map<string, string>();

const isChange = (request: Request): boolean => !["GET", "HEAD"].includes(request.method);

/** Send a request and return the answer, whatever it says. Throws `Unanswered`. */
export async function send(request: Request): Promise<Response> {
  if (!isChange(request)) return answered(request, READ_SECONDS);
  const what = `${request.method} ${request.url} ${await request.clone().text()}`;
  const sent = going.get(what) ?? change(request, what).then(readWhole);
  going.set(what, sent);
  try {
    return (await sent)();
  } finally {
    going.delete(what);
  }
}

async function readWhole(response: Response): Promise<Read> {
  const body = [204, 205, 304].includes(response.status) ? null : await response.arrayBuffer();
  const { status, statusText, headers } = response;
  return () => new Response(body, { status, statusText, headers });
}

/** Send a change under a name, again where its answer was lost. */
async function change(request: Request, what: string): Promise<Response> {
  if (!NAMED.test(new URL(request.url).pathname)) return answered(request, CHANGE_SECONDS);
  // Pressed again after all was in vain, it is still the same change.
  const name = lost.get(what) ?? madeName();
  lost.set(what, name);
  request.headers.set("Idempotency-Key", name);
  for (const pause of [...AGAIN_AFTER, null]) {
    const response = await answered(request.clone(), CHANGE_SECONDS).catch((error: Unanswered) => {
      if (pause === null || error.late) throw error;
      return null;
    });
    const unknown = response !== null && (await isUnknown(response));
    if (response && !unknown) lost.delete(what);
    if (response && (!unknown || pause === null)) return response;
    await new Promise((resolve) => setTimeout(resolve, pause ?? 0));
  }
  throw new Unanswered(true, false);
}

/** Whether the service itself does not know if it was done. */
async function isUnknown(response: Response): Promise<boolean> {
  return response.status === 503 && (await response.clone().text()).includes("outcome-unknown");
}

async function answered(request: Request, seconds: number): Promise<Response> {
  const limit = new AbortController();
  const timer = setTimeout(() => limit.abort(), seconds * 1000);
  try {
    return await fetch(new Request(request, { signal: limit.signal }));
  } catch {
    throw new Unanswered(isChange(request), limit.signal.aborted);
  } finally {
    clearTimeout(timer);
  }
}

/** A name nobody else has: by a generator that pages without encryption have, too. */
export function madeName(): string {
  return [...crypto.getRandomValues(new Uint8Array(16))].map((byte) => byte.toString(16).padStart(2, "0")).join("");
}
