// The judge and the forecast, as the library has them, so that a moved limit answers at once. The library judges again when
// something is accepted.
"use strict";
window.Kasane = {};

// Exposures are held against those of their own length and panel.
Kasane.distributionOf = function (condition, stack, night, kin) {
  const own = stack.kinds[kin] || stack.kinds[0];
  return (condition.night && own.nights[night] || own.distribution)[condition.measure];
};

Kasane.boundOf = function (condition, stack, night, kin) {
  if (!condition.reference) return condition.number;
  const [median, spread, best] = Kasane.distributionOf(condition, stack, night, kin);
  const reference = condition.reference === "median" ? median : best;
  if (reference === null) return NaN;
  return condition.number * reference + condition.spreads * (spread || 0);
};

Kasane.holds = function (condition, value, bound) {
  if (value === null || value === undefined || !isFinite(bound)) return false;
  if (condition.equal && value === bound) return true;
  return condition.above ? value > bound : value < bound;
};

Kasane.concerns = function (limit, frame) {
  if (limit.off) return false;
  if (limit.night && limit.night !== frame.night) return false;
  return limit.filters.length === 0 || limit.filters.includes(frame.filter);
};

// Verdicts of one stack: {keep, by, hits}, as the frames. `decisionOf(index)` gives a person's decision or nothing.
Kasane.judge = function (stack, limits, measures, decisionOf) {
  const frames = stack.frames, verdicts = frames.map(() => ({ keep: true, by: "", hits: [] }));
  limits.forEach((limit, k) => {
    if (limit.ranking || limit.off) return;
    const bounds = new Map(); // by night and kind
    frames.forEach((frame, i) => {
      if (!frame.width || !Kasane.concerns(limit, frame)) return;
      const key = frame.night + "|" + frame.kin;
      let own = bounds.get(key);
      if (!own) bounds.set(key, own = limit.conditions.map(c => Kasane.boundOf(c, stack, frame.night, frame.kin)));
      if (limit.conditions.every((c, n) => Kasane.holds(c, frame.v[c.measure], own[n]))) verdicts[i].hits.push(k);
    });
  });
  limits.forEach((limit, k) => {
    if (!limit.ranking || limit.off) return;
    const { count, percent, by } = limit.ranking, better = measures[by].better;
    const value = i => (frames[i].v[by] === null ? -Infinity : better * frames[i].v[by]);
    const free = frames.map((f, i) => i).filter(i => frames[i].width && !frames[i].hindrance &&
      verdicts[i].hits.length === 0 && !decisionOf(i) && Kasane.concerns(limit, frames[i]));
    stack.kinds.forEach((_, kin) => {
      const order = free.filter(i => frames[i].kin === kin);
      order.sort((a, b) => value(b) - value(a) || a - b);
      const wanted = percent ? Math.ceil(count / 100 * order.length - 1e-9) : Math.floor(count);
      for (const i of order.slice(wanted)) verdicts[i].hits.push(k);
    });
  });
  frames.forEach((frame, i) => {
    const v = verdicts[i], decision = decisionOf(i);
    if (frame.hindrance) { v.keep = false; v.by = "impossible"; }
    else if (decision) { v.keep = decision.keep; v.by = "person"; }
    else if (v.hits.length) { v.keep = false; v.by = "limit"; }
  });
  return verdicts;
};

Kasane.valueText = function (measure, value) {
  if (value === null || value === undefined || !isFinite(value)) return "-";
  const text = value.toFixed(measure.digits);
  return /^-[0.]+$/.test(text) ? text.slice(1) : text;
};

Kasane.conditionText = function (c, measures) {
  const m = measures[c.measure], number = String(Number(c.number.toPrecision(6)));
  let bound;
  if (!c.reference) bound = number + (m.unit ? " " + m.unit : "");
  else {
    bound = (c.number === 1 ? "" : number + " x ") + (c.night ? "night " : "") + c.reference;
    if (c.spreads) bound += (c.spreads > 0 ? " + " : " - ") + String(Number(Math.abs(c.spreads).toPrecision(6))) + " spread";
  }
  return `${m.name} ${c.above ? ">" : "<"}${c.equal ? "=" : ""} ${bound}`;
};

Kasane.limitText = function (limit, measures) {
  let out = limit.ranking
    ? `best ${Number(limit.ranking.count.toPrecision(6))}${limit.ranking.percent ? " %" : ""} by ${measures[limit.ranking.by].name}`
    : limit.conditions.map(c => Kasane.conditionText(c, measures)).join(" and ");
  if (limit.filters.length) out += " for " + limit.filters.join(", ");
  if (limit.night) out += " on " + limit.night;
  return out;
};

// Noise and FWHM of the master light: see docs/grading.md.
Kasane.Forecast = class {
  constructor(fwhmMeasure) {
    this.measure = fwhmMeasure;
    this.frames = 0; this.seconds = 0; this.effective = 0; this.information = 0; this.weights = [];
  }
  add(frame, sign) {
    this.frames += sign;
    this.seconds += sign * frame.seconds;
    this.effective += sign * frame.seconds * (frame.worth || 0);
    this.information += sign * frame.info;
    const fwhm = frame.v[this.measure];
    if (!(fwhm > 0) || !(frame.info > 0)) return;
    const place = Math.max(0, Math.log(fwhm / 0.5) / Math.log(1.03)), low = Math.floor(place), share = place - low;
    while (this.weights.length < low + 2) this.weights.push(0);
    this.weights[low] += sign * (1 - share) * frame.info;
    this.weights[low + 1] += sign * share * frame.info;
  }
  noise() { return this.frames > 0 && this.information > 0 ? 1 / Math.sqrt(this.information) : 0; }
  fwhm() {
    const classes = [];
    this.weights.forEach((w, i) => { if (Math.abs(w) > 1e-12 * this.information) classes.push([w, (0.5 * 1.03 ** i) ** 2]); });
    const height = r => classes.reduce((sum, [w, w2]) => sum + w / (w2 * (1 + 1.0396842 * r * r / w2) ** 3), 0);
    const half = 0.5 * height(0);
    if (!(half > 0)) return 0;
    let low = 0, high = 0.25 * 1.03 ** this.weights.length;
    for (let i = 0; i < 26; ++i) {
      const r = 0.5 * (low + high);
      if (height(r) > half) low = r; else high = r;
    }
    return low + high;
  }
  result() {
    return { frames: this.frames, seconds: this.seconds, effective: this.effective, noise: this.noise(), fwhm: this.fwhm() };
  }
};

Kasane.forecast = function (stack, verdicts, fwhmMeasure) {
  const f = new Kasane.Forecast(fwhmMeasure);
  stack.frames.forEach((frame, i) => { if (verdicts[i].keep) f.add(frame, 1); });
  return f.result();
};

Kasane.duration = function (seconds) {
  const s = Math.round(seconds), h = Math.floor(s / 3600), m = Math.floor(s / 60) % 60;
  return h ? `${h} h ${String(m).padStart(2, "0")} min` : m ? `${m} min` : `${s} s`;
};
