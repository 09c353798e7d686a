// Files that are chosen or dropped: audio for a part or for a new layer, notes, hits.

import { postForm, tell, untell } from "./api.js";
import { openDialog } from "./redraw.js";

export class Files {
  constructor(bench) {
    this.bench = bench;
  }

  async upload(input) {
    if (input.files[0]) await this.bring(input.files[0], input.dataset.upload);
    input.value = "";
  }

  /** A file that was dropped: on a row, for its part; elsewhere, for a new layer; notes, for the pattern. */
  dropped(file, place) {
    const [kind, name] = (place.dataset.select ?? "").split(":");
    const part = { kick: "kick", trigger: name, layer: `layers/${name}` }[kind] ?? "new";
    return this.bring(file, /\.midi?$/i.test(file.name) ? "midi" : part);
  }

  async bring(file, target) {
    const form = new FormData();
    form.append("file", file);
    tell(`Reading ‘${file.name}’ …`, { stays: true });
    try {
      if (target === "midi" || target.startsWith("hits:")) {
        const response = await postForm(`${this.bench.url}/${target.replace(":", "/")}`, form);
        this.ask(await response.text());
      } else {
        form.append("target", target);
        await this.done("audio", form);
      }
    } catch (error) {
      tell(error.message, { fault: true });
    }
  }

  ask(dialog) {
    untell();
    openDialog(dialog);
  }

  /** Something that is looked for in the sound of a layer: its notes, its root, where it can be sliced. */
  async find(what, within) {
    const form = new FormData();
    form.append("what", what);
    form.append("within", within);
    tell("Listening …", { stays: true });
    try {
      await this.done("find", form);
    } catch (error) {
      tell(error.message, { fault: true });
    }
  }

  /** Does something of the stack on the server, which answers with what was done, or with a question. */
  async done(where, form) {
    form.append("client", this.bench.client);
    const { told, select, dialog } = await (await postForm(`${this.bench.url}/${where}`, form)).json();
    if (dialog) return this.ask(dialog);
    if (select) this.bench.remember(select);
    await this.bench.step("plan");
    tell(told);
  }
}
