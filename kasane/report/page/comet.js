// A comet, pointed at: marks of the recipe, and those that were made or taken away here.
"use strict";

// Marks are pixels of the file; frames are shown on the grid they are measured on, `cell` pixels of the file wide.
Kasane.CometMarks = class {
  constructor(data) {
    this.data = data;
    this.changed_ = new Map(); // by file: [x, y], or null where the mark is taken away
  }
  forget() { this.changed_.clear(); }
  changed() { return this.changed_.size > 0; }

  all() {
    const marks = new Map(Object.entries(this.data().comet));
    for (const [file, at] of this.changed_) if (at) marks.set(file, at); else marks.delete(file);
    return marks;
  }
  count() { return this.all().size; }

  static toFile(frame, x, y) { return [x, y].map(v => Math.round(10 * ((v + 0.5) * frame.cell - 0.5)) / 10); }
  static toGrid(frame, [x, y]) { return [x, y].map(v => (v + 0.5) / frame.cell - 0.5); }

  at(frame) {
    const mark = this.all().get(frame.file);
    return mark ? Kasane.CometMarks.toGrid(frame, mark) : null;
  }

  // Sets a mark, or takes away one that lies within `reach`; true if one was taken away.
  point(frame, x, y, reach) {
    const mark = this.at(frame), there = this.data().comet[frame.file];
    const taken = Boolean(mark) && Math.hypot(mark[0] - x, mark[1] - y) < reach;
    if (taken && !there) this.changed_.delete(frame.file);
    else this.changed_.set(frame.file, taken ? null : Kasane.CometMarks.toFile(frame, x, y));
    return taken;
  }

  // Where it should be on a frame by the marks on others of its target: a line through them, by least squares.
  expected(frame) {
    if (!frame.affine || frame.time === null) return null;
    const places = [];
    for (const stack of this.data().stacks) {
      if (!stack.frames.includes(frame) && !this.data().stacks.some(s => s.target === stack.target && s.frames.includes(frame))) continue;
      for (const f of stack.frames) {
        const at = f !== frame && f.affine && f.time !== null ? this.at(f) : null;
        if (!at) continue;
        const [a, b, tx, d, e, ty] = Kasane.Pictures.toGrid(f, true);
        places.push([f.time, a * at[0] + b * at[1] + tx, d * at[0] + e * at[1] + ty]);
      }
    }
    const n = places.length, mean = k => places.reduce((s, p) => s + p[k], 0) / n;
    if (n < 2) return null;
    const t = mean(0), spread = places.reduce((s, p) => s + (p[0] - t) ** 2, 0);
    if (!(spread > 1)) return null;
    const on = k => mean(k) + places.reduce((s, p) => s + (p[0] - t) * p[k], 0) / spread * (frame.time - t);
    const [a, b, c, d, e, f] = frame.affine, x = on(1), y = on(2);
    return [a * x + b * y + c, d * x + e * y + f];
  }

  on(frame) {
    if (!this.count() || !frame.width) return null;
    const at = this.at(frame), expected = this.expected(frame);
    return at || expected ? { at, expected } : null;
  }

  text(frame, pointing) {
    const mark = this.all().get(frame.file);
    if (mark) return `comet marked at (${mark[0]}, ${mark[1]})${pointing ? "; a click on the mark takes it away" : ""}`;
    if (!pointing) return "";
    return this.count() < 2 ? "click on the comet here, and on another exposure, as far away in time as there is" : "the dashed ring is where the comet should be by its marks; a click marks it here too";
  }

  changes() {
    const out = [];
    for (const [file, at] of this.changed_) this.data().stacks.forEach((s, stack) => {
      const frame = s.frames.findIndex(f => f.file === file);
      if (frame >= 0) out.push({ stack, frame, at });
    });
    return out;
  }
  recipe() {
    return `[comet]\nmarks = [\n${[...this.all()].map(([file, at]) => `    [${JSON.stringify(file)}, ${at[0]}, ${at[1]}],\n`).join("")}]\n`;
  }
};
