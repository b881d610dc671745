// The kiosk has no secret and no server: PKCE binds the code to this page (RFC 7636), and the token stays in its memory.
const KEPT = "kiosk";
const AGAIN_SECONDS = 30;
const main = document.querySelector("main");
const { issuer, client } = main.dataset;
const here = `${location.origin}/kiosk`;
const ask = (address, how = {}) => fetch(address, { signal: AbortSignal.timeout(10_000), ...how });
const metadata = async () => (await ask(`${issuer}/.well-known/openid-configuration`)).json();

const base64url = (bytes) =>
  btoa(String.fromCharCode(...new Uint8Array(bytes)))
    .replaceAll("+", "-")
    .replaceAll("/", "_")
    .replaceAll("=", "");
const random = () => base64url(crypto.getRandomValues(new Uint8Array(32)));

function say(words, button) {
  const told = document.createElement("p");
  told.setAttribute("role", "status");
  told.textContent = words;
  main.replaceChildren(told);
  if (!button) return;
  const press = document.createElement("button");
  press.textContent = button;
  press.addEventListener("click", () => begin().catch(fail));
  main.append(press);
}

const fail = (fault) => say(`That did not work: ${fault.message}`, "Sign in");

async function begin() {
  const state = random();
  const verifier = random();
  sessionStorage.setItem(KEPT, JSON.stringify({ state, verifier }));
  const digest = await crypto.subtle.digest("SHA-256", new TextEncoder().encode(verifier));
  const asked = new URLSearchParams({
    response_type: "code",
    client_id: client,
    redirect_uri: here,
    scope: "berths.view",
    state,
    code_challenge: base64url(digest),
    code_challenge_method: "S256",
  });
  location.assign(`${(await metadata()).authorization_endpoint}?${asked}`);
}

/** The token of the answer in the page's address, which is an answer to what this tab asked (RFC 9700, section 4.7). */
async function redeem(answer) {
  const { state, verifier } = JSON.parse(sessionStorage.getItem(KEPT) ?? "{}");
  sessionStorage.removeItem(KEPT);
  history.replaceState(null, "", here);
  if (!state || answer.get("state") !== state || answer.get("iss") !== issuer)
    throw new Error("this answer belongs to no sign-in of this tab.");
  if (answer.has("error")) throw new Error(answer.get("error_description") ?? answer.get("error"));
  const told = await ask((await metadata()).token_endpoint, {
    method: "POST",
    body: new URLSearchParams({
      grant_type: "authorization_code",
      code: answer.get("code"),
      code_verifier: verifier,
      redirect_uri: here,
      client_id: client,
    }),
  });
  const found = await told.json();
  if (!told.ok) throw new Error(found.error_description ?? found.error);
  return found.access_token;
}

async function show(token) {
  const again = () => setTimeout(() => show(token).catch(fail), AGAIN_SECONDS * 1000);
  const answer = await ask("/berths?limit=50", { headers: { Authorization: `Bearer ${token}` } }).catch(() => null);
  // What was shown stays while the API is away.
  if (!answer) return again();
  if (answer.status === 401) return say("The sign-in ended.", "Sign in");
  if (!answer.ok) throw new Error(`Berths refused: ${answer.headers.get("WWW-Authenticate") ?? answer.status}`);
  const table = document.createElement("table");
  table.insertRow().innerHTML = "<th>Berth</th><th>Ship</th>";
  for (const { berth, occupant } of (await answer.json()).items) {
    const row = table.insertRow();
    row.insertCell().textContent = berth;
    row.insertCell().textContent = occupant ?? "free";
  }
  main.replaceChildren(table);
  again();
}

const answer = new URLSearchParams(location.search);
if (answer.has("state")) redeem(answer).then(show).catch(fail);
else say("A guide of the port signs in, and visitors see which ship lies where.", "Sign in");
