// Requests to the server, and what it tells the user.

export class Refused extends Error {}

async function answered(response) {
  if (response.ok && response.status !== 204) return response;
  // 204: a newer request has overtaken this one; there is nothing to show of it.
  let message = `The server answered with ${response.status}.`;
  try {
    message = (await response.json()).error ?? message;
  } catch { /* no JSON: the status has to do */ }
  const error = new Refused(message);
  error.status = response.status;
  throw error;
}

async function reached(promise) {
  try {
    return await promise;
  } catch (error) {
    if (error.name === "AbortError") throw error;
    throw new Refused("The server cannot be reached. Is Apilado still running? What was acknowledged is saved.");
  }
}

export async function postRaw(url, data, signal) {
  const request = { method: "POST", headers: { "Content-Type": "application/json", Accept: "application/json" } };
  return answered(await reached(fetch(url, { ...request, body: JSON.stringify(data), signal })));
}

export async function post(url, data, signal) {
  return (await postRaw(url, data, signal)).json();
}

export async function postForm(url, form) {
  return answered(await reached(fetch(url, { method: "POST", body: form, headers: { Accept: "application/json" } })));
}

export async function get(url, signal) {
  return answered(await reached(fetch(url, { signal, headers: { Accept: "application/json" } })));
}

/** Takes back what was told: something else answers now. */
export function untell() {
  document.getElementById("notices").replaceChildren();
}

/** Tells something for a while; what `stays` is told until something else is. */
export function tell(message, { fault = false, stays = false } = {}) {
  const place = document.getElementById("notices");
  const note = document.createElement("p");
  note.className = fault ? "notice is-fault" : "notice";
  note.textContent = message;
  place.replaceChildren(note);
  if (!stays) setTimeout(() => note.remove(), fault ? 12000 : 6000);
}
