// Borders that are pulled: between the panels, and between the lanes of the Time strip. The page remembers where they are.

const STEP_PX = 16;
/** For each border: the property that holds its size, the axis, the direction that makes it larger, and its ends. */
const BORDERS = {
  strip: { name: "--strip-height", axis: "clientY", sign: -1, low: 110, high: () => innerHeight - 240 },
  side: { name: "--side-width", axis: "clientX", sign: -1, low: 280, high: () => innerWidth * 0.6 },
  soundings: { name: "--soundings-height", axis: "clientY", sign: -1, low: 60, high: () => innerHeight - 300 },
};
const LEAST_LANE_PX = 16;

export function listenToBorders(bench, redraw) {
  const panels = document.querySelector(".panels");
  const kept = JSON.parse(localStorage.getItem("borders") ?? "{}");
  for (const [border, size] of Object.entries(kept)) {
    if (BORDERS[border]) panels.style.setProperty(BORDERS[border].name, `${size}px`);
  }
  let drag = null;

  const sizeOf = (border) => {
    const beside = document.getElementById({ strip: "strip-panel", side: "side", soundings: "soundings-panel" }[border]);
    const box = beside.getBoundingClientRect();
    return BORDERS[border].axis === "clientX" ? box.width : box.height;
  };
  const told = (border) => {
    const { low, high } = BORDERS[border.dataset.border];
    border.setAttribute("aria-valuemin", low);
    border.setAttribute("aria-valuemax", Math.round(high()));
    border.setAttribute("aria-valuenow", Math.round(sizeOf(border.dataset.border)));
  };
  const put = (border, size) => {
    const { name, low, high } = BORDERS[border];
    kept[border] = Math.round(Math.min(Math.max(size, low), high()));
    panels.style.setProperty(name, `${kept[border]}px`);
    localStorage.setItem("borders", JSON.stringify(kept));
    document.querySelectorAll(`[data-border=${border}]`).forEach(told);
  };

  for (const border of document.querySelectorAll("[data-border]")) {
    const { border: which } = border.dataset;
    const { axis, sign, name } = BORDERS[which];
    told(border);
    border.addEventListener("pointerdown", (event) => {
      event.preventDefault();
      drag = { which, from: event[axis], size: sizeOf(which) };
      border.setPointerCapture(event.pointerId);
    });
    border.addEventListener("pointermove", (event) => { if (drag) put(which, drag.size + sign * (event[axis] - drag.from)); });
    border.addEventListener("pointerup", () => { drag = null; });
    border.addEventListener("pointercancel", () => { drag = null; });
    border.addEventListener("dblclick", () => {
      delete kept[which];
      panels.style.removeProperty(name);
      localStorage.setItem("borders", JSON.stringify(kept));
    });
    border.addEventListener("keydown", (event) => {
      const by = { ArrowUp: -1, ArrowLeft: -1, ArrowDown: 1, ArrowRight: 1 }[event.key];
      if (!by) return;
      event.preventDefault();
      put(which, sizeOf(which) + sign * by * STEP_PX);
    });
  }
  listenToLanes(bench, redraw);
}

/** A border between two lanes: one grows by what the other shrinks. */
function listenToLanes(bench, redraw) {
  const place = `lanes ${bench.url}`;
  bench.lanes = JSON.parse(localStorage.getItem(place) ?? "{}");
  const svg = bench.panels.svg.strip;
  let drag = null;
  svg.addEventListener("pointerdown", (event) => {
    const border = event.target.closest("[data-between]");
    if (!border || event.button !== 0) return;
    event.preventDefault();
    event.stopImmediatePropagation();
    const all = [...svg.querySelectorAll("[data-between]")];
    const heights = {};
    for (const each of all) {
      const [upper, lower] = each.dataset.between.split(" ");
      [heights[upper], heights[lower]] = each.dataset.heights.split(" ").map(Number);
    }
    drag = { y: event.clientY, between: border.dataset.between.split(" "), heights };
    svg.setPointerCapture(event.pointerId);
  }, true);
  svg.addEventListener("pointermove", (event) => {
    if (!drag) return;
    const [upper, lower] = drag.between;
    const both = drag.heights[upper] + drag.heights[lower];
    const first = Math.min(Math.max(drag.heights[upper] + event.clientY - drag.y, LEAST_LANE_PX), both - LEAST_LANE_PX);
    const heights = { ...drag.heights, [upper]: first, [lower]: both - first };
    const usual = svg.getBoundingClientRect().height / 10; // heights against each other, of a strip that is ten high
    bench.lanes = Object.fromEntries(Object.entries(heights).map(([name, height]) => [name, Math.max(0.05, height / usual)]));
    redraw();
  });
  const end = () => {
    if (!drag) return;
    drag = null;
    localStorage.setItem(place, JSON.stringify(bench.lanes));
    bench.step("plan");
  };
  svg.addEventListener("pointerup", end);
  svg.addEventListener("pointercancel", end);
}
