// Controls of sheet and layer list: each carries the edit that it makes, and sends what was typed or pulled as it is shown.

import { newGesture } from "./edits.js";

const POSITIONS = 1000;

function numbers(control) {
  const { low, high, step, scale } = control.dataset;
  return { low: Number(low), high: Number(high), step: Number(step), log: scale === "log" };
}

function sliderValue(slider) {
  const { low, high, step, log } = numbers(slider);
  if (!log) return Number(slider.value);
  const value = low * (high / low) ** (Number(slider.value) / POSITIONS);
  // Near the bottom of a long range a step is more than a position: finer steps are kept there.
  const fine = Math.min(step, 10 ** Math.floor(Math.log10(value) - 2));
  return Number((Math.round(value / fine) * fine).toFixed(6));
}

function placeSlider(slider, value) {
  const { low, high, log } = numbers(slider);
  slider.value = log ? POSITIONS * (Math.log(value / low) / Math.log(high / low)) : value;
  if (log) slider.setAttribute("aria-valuetext", value);
}

/** Puts sliders with a logarithmic scale where their values are. */
export function prepareFields(root) {
  root.querySelectorAll("input[type=range][data-value]").forEach((slider) => placeSlider(slider, Number(slider.dataset.value)));
}

/**
 * Shows new values, given as { path: text }, in every control that has them. While newer edits wait or are under way (`behind`), the slider
 * under the keys stays where they have brought it: the next press goes on from there.
 */
export function showValues(values, behind = false) {
  for (const [path, text] of Object.entries(values)) {
    document.querySelectorAll(`[data-path="${CSS.escape(path)}"]`).forEach((control) => {
      if (control.type === "number") control.closest(".field")?.classList.toggle("is-own", text !== control.dataset.default);
      if (control.matches("[data-toggle]")) {
        control.setAttribute("aria-pressed", text === "True");
      } else if (control.type === "checkbox") {
        control.checked = text === "True";
      } else if (control.type === "range") {
        const held = control.matches(":active") || (behind && control === document.activeElement);
        if (!held) placeSlider(control, Number(text));
      } else if (control !== document.activeElement || control.dataset.sent !== undefined) {
        control.value = text;
        delete control.dataset.sent;
      }
    });
  }
}

/** Shows what is written around the controls: { name: text }. */
export function showTexts(texts) {
  document.querySelectorAll("[data-text]").forEach((place) => {
    const text = texts[place.dataset.text];
    if (text !== undefined && place.textContent !== text) place.textContent = text;
  });
}

/** Shows which rows are heard, muted or faded: { what a row selects: its class }. */
export function showStates(states) {
  for (const [selection, state] of Object.entries(states)) {
    const row = document.querySelector(`#layers li[data-select="${CSS.escape(selection)}"]`);
    row?.classList.remove("is-heard", "is-muted", "is-faded");
    row?.classList.add(state);
  }
}

const unsent = new Set(); // controls whose edits wait: their sheet may be drawn anew meanwhile

/** Notes and hits are named by where they are: what has been moved, as { old address: new one }, keeps its controls. */
export function renamePaths(moved = {}) {
  for (const [was, now] of Object.entries(moved)) {
    for (const control of [...document.querySelectorAll("#sheet [data-path]"), ...unsent]) {
      const { path, makes } = control.dataset;
      if (path !== was && !path.startsWith(`${was}/`)) continue;
      control.dataset.path = now + path.slice(was.length);
      control.dataset.makes = JSON.stringify({ ...JSON.parse(makes), path: control.dataset.path });
    }
  }
}

function twins(control) {
  return document.querySelectorAll(`[data-path="${CSS.escape(control.dataset.path)}"]`);
}

export function listenToFields(bench) {
  let gesture = null;
  const send = (control, value, options) => {
    unsent.add(control);
    const make = () => {
      unsent.delete(control);
      return { ...JSON.parse(control.dataset.makes), [control.dataset.named]: value };
    };
    bench.edit(make, options?.gesture ?? null, { final: true, ...options });
  };
  const reset = (control) => {
    if (control?.dataset.default !== undefined) send(control, control.dataset.default);
  };

  document.addEventListener("input", (event) => {
    const control = event.target;
    if (control.type !== "range" || !control.dataset.path) return;
    gesture ??= newGesture();
    const value = sliderValue(control);
    twins(control).forEach((twin) => { if (twin.type === "number") twin.value = value; });
    if (control.dataset.scale === "log") control.setAttribute("aria-valuetext", value);
    send(control, String(value), { gesture, final: false });
  });
  document.addEventListener("change", (event) => {
    const control = event.target;
    if (control.matches?.("[data-menu]") && control.value) {
      const edit = JSON.parse(control.value);
      if (control.options[0].value === "") control.value = "";
      bench.edit(() => edit);
      return;
    }
    if (!control.dataset?.path) return;
    if (control.type === "range") {
      if (gesture) send(control, String(sliderValue(control)), { gesture });
      gesture = null;
    } else if (control.type === "checkbox") {
      if (control.dataset.asks && !window.confirm(control.dataset.asks)) {
        control.checked = !control.checked;
        return;
      }
      send(control, control.checked);
    } else if (control.type === "number") {
      if (control.value === "") return;
      control.dataset.sent = "";
      send(control, control.value);
    } else {
      control.dataset.sent = "";
      send(control, control.value);
    }
  });
  document.addEventListener("click", (event) => {
    const help = event.target.closest("[data-help]");
    if (!help) return;
    event.preventDefault(); // within a label it would switch what is labelled
    const text = help.closest(".field").querySelector(".field-help");
    text.hidden = !text.hidden;
    help.setAttribute("aria-expanded", !text.hidden);
  });
  document.addEventListener("click", (event) => {
    const toggle = event.target.closest("[data-toggle]");
    if (!toggle) return;
    event.stopPropagation();
    const row = toggle.closest("#layers [data-owner]");
    if (row && toggle.dataset.path.endsWith("/mute")) bench.listening.muted(row.dataset.owner);
    send(toggle, toggle.getAttribute("aria-pressed") !== "true");
  }, true);
  document.addEventListener("dblclick", (event) => {
    const field = event.target.closest("[data-reset]")?.closest(".field");
    if (field) reset(field.querySelector("[data-path]"));
    else if (event.target.type === "range") reset(event.target);
  });
  document.addEventListener("keydown", (event) => {
    if (event.key === "Delete" && event.target.type === "range") reset(event.target);
    if (event.key === "Enter" && event.target.matches?.("input[data-path]")) event.target.blur();
  });
}
