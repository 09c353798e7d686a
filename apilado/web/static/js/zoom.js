// The stretch of time that is shown: all, a bar, one hit.

const [BEFORE_HIT_BEATS, BEHIND_HIT_BEATS] = [0.1, 0.9]; // of what is seen around one hit

export function zoom(bench, kind) {
  const beat = bench.player.share() * bench.info.beats;
  const bar = Math.floor(beat / bench.info.beatsPerBar) * bench.info.beatsPerBar;
  const hits = [...document.querySelectorAll("#strip [data-hit]")].map((part) => Number(part.dataset.hit)).sort((a, b) => a - b);
  const there = bench.item.startsWith("hit:") ? Number(bench.item.split(":").at(-1)) : hits.filter((hit) => hit <= beat + 1e-6).at(-1) ?? hits[0] ?? 0;
  const shown = bench.hit ? bench.panels.range()[0] + BEFORE_HIT_BEATS : there;
  bench.hit = ["hit", "before", "behind"].includes(kind) && !(kind === "hit" && bench.hit);
  if (kind === "bar") bench.panels.zoomTo(bar, bar + bench.info.beatsPerBar);
  else if (!bench.hit) bench.panels.zoomTo(0, bench.info.beats);
  else {
    const before = hits.filter((hit) => hit < shown - 1e-3).at(-1) ?? hits.at(-1) ?? 0;
    const behind = hits.find((hit) => hit > shown + 1e-3) ?? hits[0] ?? 0;
    const hit = { before, behind }[kind] ?? there;
    bench.panels.zoomTo(hit - BEFORE_HIT_BEATS, hit + BEHIND_HIT_BEATS);
  }
  document.querySelector("[data-zoom=hit]").setAttribute("aria-pressed", bench.hit);
  document.querySelectorAll(".only-hit").forEach((tool) => { tool.hidden = !bench.hit; });
  bench.step("plan");
}
