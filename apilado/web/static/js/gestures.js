// Moving through time by wheel, trackpad and fingers; and a double tap where there is no double-click.

const LINE_PX = 16; // of a wheel that counts in lines
const PINCH_PER_OCTAVE = 200; // how far a wheel turns, or fingers on a trackpad part, until twice as much is seen
const SLOP_PX = 8;
const TAPS_TOGETHER_MS = 350;

/** @param redraw () => void: the stretch of time that is shown has changed. */
export function listenToGestures(bench, redraw) {
  for (const name of ["strip", "passage"]) {
    bench.panels.svg[name].addEventListener("wheel", (event) => {
      event.preventDefault();
      const scale = event.deltaMode === WheelEvent.DOM_DELTA_LINE ? LINE_PX : 1;
      if (event.ctrlKey) bench.panels.zoomAround(bench.panels.beatAt(event), 2 ** ((event.deltaY * scale) / PINCH_PER_OCTAVE));
      else bench.panels.pan((Math.abs(event.deltaX) > Math.abs(event.deltaY) ? event.deltaX : event.deltaY) * scale);
      redraw();
    }, { passive: false });
    listenToFingers(bench, bench.panels.svg[name], redraw);
  }
  for (const svg of Object.values(bench.panels.svg)) listenToTaps(svg);
}

/** One finger on an empty place pans, two zoom; a tap moves the playhead. */
function listenToFingers(bench, svg, redraw) {
  const down = new Map(); // pointer -> where it is now
  let moved = false;
  svg.addEventListener("pointerdown", (event) => {
    if (event.pointerType !== "touch") return;
    if (down.size === 0) moved = event.target.closest("[data-drag], [data-cut]") !== null; // what is taken is not panned
    down.set(event.pointerId, { x: event.clientX, begun: event.clientX, taken: moved });
    if (down.size === 2) svg.dispatchEvent(new PointerEvent("pointercancel")); // lets go of what one finger had taken
  });
  svg.addEventListener("pointermove", (event) => {
    const finger = down.get(event.pointerId);
    if (!finger) return;
    const before = [...down.values()].map(({ x }) => x);
    if (down.size === 1 && (finger.taken || (!moved && Math.abs(event.clientX - finger.begun) < SLOP_PX))) return;
    finger.x = event.clientX;
    moved = true;
    const now = [...down.values()].map(({ x }) => x);
    const middle = (xs) => xs.reduce((sum, x) => sum + x, 0) / xs.length;
    if (now.length === 2) {
      const spread = ([a, b]) => Math.max(SLOP_PX, Math.abs(a - b));
      bench.panels.zoomAround(bench.panels.beatAt({ clientX: middle(before) }), spread(before) / spread(now));
    }
    bench.panels.pan(middle(before) - middle(now));
    redraw();
  });
  const up = (event) => {
    const finger = down.get(event.pointerId);
    down.delete(event.pointerId);
    if (finger && !moved && event.type === "pointerup") bench.seek(bench.panels.beatAt(event));
  };
  for (const kind of ["pointerup", "pointercancel"]) svg.addEventListener(kind, up);
}

/** Two taps on one place are a double-click; the browser's own, where it makes one of them too, is left out. */
function listenToTaps(svg) {
  let last = { at: -Infinity, x: 0, y: 0 };
  let touched = false;
  let begun = { x: 0, y: 0 };
  svg.addEventListener("pointerdown", (event) => {
    touched = event.pointerType === "touch";
    begun = { x: event.clientX, y: event.clientY };
  }, true);
  svg.addEventListener("pointerup", (event) => {
    const { clientX: x, clientY: y } = event;
    if (event.pointerType !== "touch" || Math.hypot(x - begun.x, y - begun.y) > SLOP_PX) return;
    const again = event.timeStamp - last.at < TAPS_TOGETHER_MS && Math.hypot(x - last.x, y - last.y) < 3 * SLOP_PX;
    last = again ? { at: -Infinity, x, y } : { at: event.timeStamp, x, y };
    if (again) document.elementFromPoint(x, y).dispatchEvent(new MouseEvent("dblclick", { bubbles: true, clientX: x, clientY: y }));
  });
  svg.addEventListener("dblclick", (event) => {
    if (touched && event.isTrusted) event.stopImmediatePropagation();
  }, true);
}
