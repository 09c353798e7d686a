// Handles of sources: what is cut of a recorded sound, and filters.

export const within = (value, low, high) => Math.min(high, Math.max(low, value));

/** What a hand is pulling: the server holds it within the range, and rounds it. */
export const pulled = (path, values) => Object.entries(values).map(([name, value]) => ({ op: "set", path: `${path}/${name}`, value, held: true }));

export const SOURCE_KINDS = {
  cut: {
    take: ({ dataset, parentElement }) => ({
      name: dataset.name, place: Number(dataset.place), ms: Number(dataset.ms), less: Number(dataset.less ?? 0),
      source: parentElement.dataset.source, total: Number(parentElement.dataset.total),
      slices: parentElement.dataset.slices.split(",").filter(Boolean).map(Number),
    }),
    pull: (taken, event, bench) => {
      const box = bench.panels.svg.strip.getBoundingClientRect();
      return cutEdit(taken, ((event.clientX - box.left) / box.width) * taken.total);
    },
    step: (taken, key, large) => {
      const right = { ArrowRight: 1, ArrowLeft: -1 }[key] ?? 0;
      return right ? cutEdit(taken, taken.ms + right * (large ? 50 : 1)) : null;
    },
    remove: (taken) => () => {
      if (taken.name !== "slices_ms") return { op: "set", path: `${taken.source}/${taken.name}`, value: 0 };
      return { op: "set", path: `${taken.source}/slices_ms`, value: taken.slices.filter((_, place) => place !== taken.place) };
    },
  },
  filter: {
    take: ({ dataset }) => ({
      path: dataset.path, up: dataset.up, sideways: dataset.sideways, most: Number(dataset.most),
      frequency: Number(dataset.frequency), share: Number(dataset.share), width: Number(dataset.width),
    }),
    pull: (taken, event, bench) => {
      const box = bench.panels.svg.profile.getBoundingClientRect();
      const share = ((event.clientX - box.left) / box.width - 0.5) / taken.width;
      return filterEdit(taken, bench.panels.frequencyAt(event), share);
    },
    step: (taken, key, large) => {
      const up = { ArrowUp: 1, ArrowDown: -1 }[key] ?? 0;
      const right = { ArrowRight: 1, ArrowLeft: -1 }[key] ?? 0;
      if (!up && !right) return null;
      return filterEdit(taken, taken.frequency * 2 ** ((up * (large ? 4 : 1)) / 24), taken.share + right * (large ? 0.1 : 0.02));
    },
  },
};

/** A place in a recorded sound: a value of its source, or one of its slices. */
function cutEdit(taken, ms) {
  taken.ms = within(ms, 0, taken.total);
  if (taken.name !== "slices_ms") {
    const value = Math.max(0, taken.ms - taken.less);
    return () => ({ op: "set", path: `${taken.source}/${taken.name}`, value, held: true });
  }
  const value = taken.slices.map((other, place) => (place === taken.place ? Math.round(10 * taken.ms) / 10 : other));
  return () => ({ op: "set", path: `${taken.source}/slices_ms`, value });
}

/** A filter by its frequency, if that is to be moved, and by the value that goes from left to right. */
function filterEdit(taken, frequency, share) {
  Object.assign(taken, { frequency, share: within(share, 0, 1) });
  const values = { ...(taken.up && { [taken.up]: frequency }), [taken.sideways]: taken.share * taken.most };
  return () => ({ op: "several", name: "Pull a filter", edits: pulled(taken.path, values) });
}
