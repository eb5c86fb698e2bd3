// The review page itself: what is chosen, how it is shown, what is accepted.
"use strict";

(async function () {
  const $ = id => document.getElementById(id);
  const el = (name, attributes = {}, text = "") => {
    const e = document.createElement(name);
    for (const [k, v] of Object.entries(attributes)) if (v !== undefined) e.setAttribute(k, v);
    e.textContent = text;
    return e;
  };
  let D = window.kasaneData || await (await fetch("data.json")).json();
  const alone = !!D.alone, M = Object.fromEntries(D.measures.map((m, i) => [m.name, i]));
  const copy = v => JSON.parse(JSON.stringify(v));
  const S = {
    stack: 0, current: 0, anchor: 0, selected: new Set(), decisions: new Map(), lead: null, limits: copy(D.limits),
    strips: ["stars", "fwhm", "eccentricity", "sky"].map(n => M[n]), sort: "time", playing: 0, comparing: false,
    look: localStorageGet("look") || (matchMedia("(prefers-color-scheme: dark)").matches ? "night" : "day"),
    verdicts: [], saved: null, order: [], tab: "cost", pointing: false,
  };
  const comet = new Kasane.CometMarks(() => D);
  function localStorageGet(key) { try { return localStorage.getItem("kasane-" + key); } catch { return null; } }
  function localStorageSet(key, value) { try { localStorage.setItem("kasane-" + key, value); } catch { /* private window */ } }
  const stack = () => D.stacks[S.stack];
  const key = i => S.stack + "/" + i;
  const decisionIn = (s, i) => (S.decisions.has(s + "/" + i) ? S.decisions.get(s + "/" + i) : D.stacks[s].frames[i].decision || null);
  const colour = name => getComputedStyle(document.documentElement).getPropertyValue("--" + name).trim();
  const text = (m, v) => Kasane.valueText(D.measures[m], v);
  let C = {}, growing = null;

  // ---- judging -------------------------------------------------------------------------------------------------------
  const doubtful = i => {
    const f = stack().frames[i];
    if (f.hindrance || !f.width) return false;
    const v = S.verdicts[i];
    if (v.by === "person") return false;
    return S.limits.some(limit => !limit.off && !limit.ranking && Kasane.concerns(limit, f) && (() => {
      const meets = share => limit.conditions.every(c => {
        const bound = Kasane.boundOf(c, stack(), f.night, f.kin), moved = bound + (c.above ? 1 : -1) * share * Math.abs(bound);
        return Kasane.holds(c, f.v[c.measure], moved);
      });
      return meets(-0.1) !== meets(0.1);
    })());
  };
  const judgeStack = (s, limits, saved) => Kasane.judge(D.stacks[s], limits, D.measures, i => (saved ? D.stacks[s].frames[i].decision || null : decisionIn(s, i)));
  const changed = () => S.decisions.size > 0 || Boolean(S.lead) || comet.changed() || limitsText(S.limits) !== limitsText(D.limits);
  const limitsText = limits => JSON.stringify(limits.filter(l => !l.off).map(l => Kasane.limitText(l, D.measures)));

  function judge() {
    const begin = performance.now();
    S.verdicts = judgeStack(S.stack, S.limits, false);
    if (S.savedOf !== stack()) { // what is saved changes with the data alone
      S.saved = Kasane.forecast(stack(), judgeStack(S.stack, D.limits, true), M.fwhm);
      S.savedOf = stack();
    }
    S.now = Kasane.forecast(stack(), S.verdicts, M.fwhm);
    summary();
    strips();
    rows();
    tabs();
    caption();
    redraw();
    window.kasaneRedraw = performance.now() - begin;
  }

  function summary() {
    const n = S.now, was = S.saved, all = stack().frames.length;
    const change = (now, then) => (then > 0 && now > 0 && Math.abs(now / then - 1) > 0.0005 ? ` (${now > then ? "+" : ""}${(100 * (now / then - 1)).toFixed(1)} %)` : "");
    const box = $("summary");
    box.textContent = "";
    const kept = el("b", { id: "kept" }, `${n.frames} of ${all} kept`);
    box.append(kept, `, ${Kasane.duration(n.seconds)}, effective ${Kasane.duration(n.effective)}; noise ${n.noise.toFixed(2)} ADU${change(n.noise, was.noise)}, FWHM ${n.fwhm.toFixed(2)} px${change(n.fwhm, was.fwhm)}`);
    box.title = `${box.textContent}${changed() ? " (not saved)" : ""}`;
    $("accept").disabled = !changed();
    $("accept").textContent = alone ? "Export as text" : "Accept";
    $("discard").disabled = !changed();
    $("undo").disabled = alone || !(D.undo > 0);
  }

  // ---- the night as a band of time -------------------------------------------------------------------------------------
  function layout(width) {
    const frames = stack().frames, left = 8, gap = 14;
    const nights = [];
    frames.forEach((f, i) => {
      if (!nights.length || nights[nights.length - 1].night !== f.night) nights.push({ night: f.night, kin: f.kin, from: i, to: i });
      const n = nights[nights.length - 1];
      n.to = i;
      n.kin = Math.min(n.kin, f.kin); // whose limits are drawn
    });
    const room = width - 2 * left - gap * (nights.length - 1), x = new Array(frames.length);
    let at = left;
    for (const n of nights) {
      const count = n.to - n.from + 1, w = room * count / frames.length;
      const t0 = frames[n.from].time, t1 = frames[n.to].time, timed = t0 !== null && t1 !== null && t1 > t0;
      for (let i = n.from; i <= n.to; ++i) {
        const share = timed && frames[i].time !== null ? (frames[i].time - t0) / (t1 - t0) : count > 1 ? (i - n.from) / (count - 1) : 0.5;
        x[i] = at + Math.min(6, w / 4) + share * (w - 2 * Math.min(6, w / 4));
      }
      n.x0 = at;
      n.x1 = at + w;
      at += w + gap;
    }
    return { nights, x };
  }

  function range(m) {
    const values = stack().frames.map(f => f.v[m]).filter(v => v !== null).sort((a, b) => a - b);
    if (!values.length) return [0, 1];
    let low = values[Math.floor(0.01 * (values.length - 1))], high = values[Math.ceil(0.99 * (values.length - 1))];
    for (const limit of S.limits) for (const c of limit.conditions) if (c.measure === m && !limit.off) {
      const b = Kasane.boundOf(c, stack(), stack().frames[0].night, stack().frames[0].kin);
      if (isFinite(b)) { const span = high - low || Math.abs(high) || 1; if (b < high + 2 * span) high = Math.max(high, b); if (b > low - 2 * span) low = Math.min(low, b); }
    }
    const margin = 0.08 * (high - low || Math.abs(high) || 1);
    return [values[0] >= 0 ? Math.max(0, low - margin) : low - margin, high + margin];
  }

  function mark(c, x, y, verdict, r) {
    if (verdict.keep && r < 2) { c.fillStyle = C.keep; c.fillRect(x - r, y - r, 2 * r, 2 * r); return; }
    c.beginPath();
    if (verdict.keep) { c.arc(x, y, r, 0, 7); c.fillStyle = C.keep; c.fill(); }
    else {
      c.strokeStyle = C.drop;
      c.lineWidth = 1.4;
      c.moveTo(x - r, y - r); c.lineTo(x + r, y + r); c.moveTo(x - r, y + r); c.lineTo(x + r, y - r);
      c.stroke();
    }
    if (verdict.by === "person") { c.strokeStyle = C.hand; c.lineWidth = 1.4; c.strokeRect(x - r - 2, y - r - 2, 2 * r + 4, 2 * r + 4); }
  }

  const kTop = 20; // pixels of a strip for its name
  function strips() {
    const ratio = devicePixelRatio || 1;
    stripBoxes.forEach((box, k) => {
      const canvas = box.canvas, r = canvas.getBoundingClientRect(), m = S.strips[k];
      canvas.width = Math.round(r.width * ratio);
      canvas.height = Math.round(r.height * ratio);
      const c = canvas.getContext("2d"), { nights, x } = layout(r.width), [low, high] = range(m), h = r.height;
      const y = v => h - 6 - (v - low) / (high - low) * (h - 6 - kTop);
      box.map = { x, y, low, high, h, nights };
      c.scale(ratio, ratio);
      c.fillStyle = C.mark;
      const frames = stack().frames, size = frames.length > 400 ? 1.7 : 3;
      for (const i of S.selected) c.fillRect(x[i] - 3, 0, 6, h);
      c.font = "10px sans-serif";
      for (const n of nights) {
        c.strokeStyle = C.line;
        c.lineWidth = 1;
        c.strokeRect(n.x0 - 3.5, 0.5, n.x1 - n.x0 + 7, h - 1);
        c.fillStyle = C.faint;
        if (k === 0 && n.x1 - n.x0 > 60) { c.textAlign = "right"; c.fillText(n.night, n.x1, 11); }
      }
      S.limits.forEach(limit => {
        if (limit.off) return;
        limit.conditions.forEach(condition => {
          if (condition.measure !== m) return;
          c.strokeStyle = C.drop;
          c.setLineDash(limit.conditions.length > 1 ? [2, 4] : [6, 3]);
          for (const n of nights) {
            if (limit.night && limit.night !== n.night) continue;
            const at = y(Kasane.boundOf(condition, stack(), n.night, n.kin));
            if (!isFinite(at)) continue;
            c.beginPath();
            c.moveTo(n.x0 - 3, at);
            c.lineTo(n.x1 + 3, at);
            c.stroke();
          }
          c.setLineDash([]);
        });
      });
      frames.forEach((f, i) => {
        const v = f.v[m];
        if (v === null) return;
        mark(c, x[i], Math.min(h - 4, Math.max(4, y(v))), S.verdicts[i], size);
      });
      c.strokeStyle = C.accent;
      c.lineWidth = 1;
      c.strokeRect(Math.round(x[S.current]) - 4.5, 1.5, 9, h - 3);
      c.fillStyle = C.faint;
      c.textAlign = "right";
      c.fillText(text(m, high), r.width - 2, 22);
      c.fillText(text(m, low), r.width - 2, h - 3);
      const f = frames[S.current];
      const now = `${text(m, f.v[m])} ${D.measures[m].unit}`;
      c.font = "11px sans-serif";
      c.fillStyle = C.panel;
      c.fillRect(112, 3, c.measureText(now).width + 8, 15);
      c.fillStyle = C.ink;
      c.textAlign = "left";
      c.fillText(now, 116, 14);
    });
  }

  const stripBoxes = S.strips.map((m, k) => {
    const div = el("div", { class: "strip" }), canvas = el("canvas", { "aria-label": "measures through the night" }), select = measureSelect(m, `strip${k}`);
    select.setAttribute("aria-label", "Measure of this curve");
    select.addEventListener("change", () => { S.strips[k] = Number(select.value); strips(); });
    div.append(canvas, select);
    $("strips").append(div);
    const box = { canvas, map: null };
    let drag = null;
    const place = e => { const r = canvas.getBoundingClientRect(); return [e.clientX - r.left, e.clientY - r.top]; };
    const nearest = px => { let best = 0; box.map.x.forEach((x, i) => { if (Math.abs(x - px) < Math.abs(box.map.x[best] - px)) best = i; }); return best; };
    const lineAt = (px, py) => {
      const night = box.map.nights.find(n => px >= n.x0 - 7 && px <= n.x1 + 7);
      if (!night) return null;
      for (const limit of S.limits) if (!limit.off) for (const condition of limit.conditions)
        if (condition.measure === S.strips[k] && Math.abs(box.map.y(Kasane.boundOf(condition, stack(), night.night, night.kin)) - py) < 5) return { condition, night: night.night, kin: night.kin };
      return null;
    };
    canvas.addEventListener("pointerdown", e => {
      const [px, py] = place(e), line = lineAt(px, py);
      drag = line ? { line } : { from: px, moved: false };
      canvas.setPointerCapture(e.pointerId);
    });
    canvas.addEventListener("pointermove", e => {
      const [px, py] = place(e);
      if (!drag) { canvas.style.cursor = lineAt(px, py) ? "ns-resize" : "crosshair"; return; }
      if (drag.line) {
        const { condition } = drag.line, { low, high, h } = box.map;
        const value = low + (h - 6 - py) / (h - 6 - kTop) * (high - low);
        setBound(condition, drag.line, value);
        judge();
      } else if (Math.abs(px - drag.from) > 4) {
        drag.moved = true;
        const a = Math.min(px, drag.from), b = Math.max(px, drag.from);
        S.selected = new Set(box.map.x.map((x, i) => [x, i]).filter(([x]) => x >= a && x <= b).map(([, i]) => i));
        selectionText();
        strips();
      }
    });
    canvas.addEventListener("pointerup", e => {
      const [px] = place(e);
      if (drag && !drag.line && !drag.moved) { S.selected.clear(); go(nearest(px)); }
      else if (drag && drag.moved && S.selected.size) go(Math.min(...S.selected), true);
      drag = null;
    });
    canvas.addEventListener("dblclick", e => {
      const [, py] = place(e), { low, high, h } = box.map, better = D.measures[S.strips[k]].better;
      const value = low + (h - 6 - py) / (h - 6 - kTop) * (high - low), median = stack().kinds[0].distribution[S.strips[k]][0];
      addLimit(S.strips[k], better > 0 ? false : better < 0 ? true : value > median, Number(value.toPrecision(3)), "");
    });
    return box;
  });

  function setBound(condition, { night, kin }, value) {
    if (!condition.reference) { condition.number = Number(value.toPrecision(4)); return; }
    const [median, spread, best] = Kasane.distributionOf(condition, stack(), night, kin), reference = condition.reference === "median" ? median : best;
    if (reference) condition.number = Number(((value - condition.spreads * (spread || 0)) / reference).toPrecision(3));
  }
  function addLimit(measure, above, number, reference) {
    S.limits.push({ conditions: [{ measure, above, equal: false, number, reference: reference.replace("night ", ""), night: reference.startsWith("night"), spreads: 0 }], filters: [], night: "" });
    tab("limits");
    judge();
  }

  // ---- the table ---------------------------------------------------------------------------------------------------------
  const columns = ["stars", "fwhm", "eccentricity", "sky", "transparency", "worth"].map(n => M[n]);
  const kRow = 21;
  function header() {
    const head = $("head");
    head.textContent = "";
    head.append(el("span", {}, "verdict"), el("span", {}, "exposure"), el("span", {}, "at"));
    for (const m of columns) head.append(el("span", { class: "n", title: D.measures[m].meaning }, { eccentricity: "ecc.", transparency: "light" }[D.measures[m].name] || D.measures[m].name));
    head.append(el("span", {}, "reason"));
  }
  function sortRows() {
    const frames = stack().frames, show = $("show").value;
    let order = frames.map((f, i) => i).filter(i => show === "all" || (show === "kept" ? S.verdicts[i].keep : show === "dropped" ? !S.verdicts[i].keep : doubtful(i)));
    if (S.sort !== "time") {
      const m = Number(S.sort), sign = D.measures[m].better < 0 ? -1 : 1;
      const value = i => (frames[i].v[m] === null ? -Infinity : sign * frames[i].v[m]);
      order.sort((a, b) => value(a) - value(b) || a - b);
    }
    S.order = order;
  }
  function reason(i) {
    const f = stack().frames[i], v = S.verdicts[i];
    if (v.by === "impossible") return f.hindrance;
    const decision = decisionIn(S.stack, i);
    let out = v.by === "person" ? "by hand" + (decision.note ? ": " + decision.note : "") : "";
    if (v.hits.length) {
      const limit = S.limits[v.hits[0]];
      const why = limit.ranking ? Kasane.limitText(limit, D.measures) : limit.conditions.map(c =>
        `${D.measures[c.measure].name} ${text(c.measure, f.v[c.measure])} ${c.above ? ">" : "<"} ${text(c.measure, Kasane.boundOf(c, stack(), f.night, f.kin))}`).join(" and ");
      out += out ? ` (although ${why})` : why;
    }
    return out;
  }
  function shortName(f) { return f.file.split("/").pop(); }
  function rows() { sortRows(); drawRows(); }
  function drawRows() {
    const box = $("rows"), space = $("space");
    space.style.height = S.order.length * kRow + "px";
    const first = Math.max(0, Math.floor(box.scrollTop / kRow) - 4), last = Math.min(S.order.length, first + Math.ceil(box.clientHeight / kRow) + 9);
    const fresh = document.createDocumentFragment();
    for (let k = first; k < last; ++k) {
      const i = S.order[k], f = stack().frames[i], v = S.verdicts[i];
      const row = el("div", { class: `row${v.keep ? "" : " dropped"}${v.by === "person" ? " hand" : ""}${S.selected.has(i) ? " selected" : ""}${i === S.current ? " current" : ""}`, role: "row", "data-i": i });
      row.style.top = k * kRow + "px";
      row.append(el("span", { class: "word" }, (v.keep ? "● " : "✕ ") + (v.keep ? "keep" : "drop")), el("span", { title: f.file }, shortName(f)), el("span", {}, f.start.slice(5, 16).replace("T", " ")));
      for (const m of columns) row.append(el("span", { class: "n" }, text(m, f.v[m])));
      const why = reason(i);
      row.append(el("span", { title: why }, why));
      fresh.append(row);
    }
    space.replaceChildren(fresh);
  }
  $("rows").addEventListener("scroll", drawRows);
  $("rows").addEventListener("click", e => {
    const row = e.target.closest(".row");
    if (!row) return;
    const i = Number(row.dataset.i);
    if (e.ctrlKey || e.metaKey) { S.selected.has(i) ? S.selected.delete(i) : S.selected.add(i); go(i, true); }
    else if (e.shiftKey) { span(S.anchor, i); go(i, true); }
    else { S.selected.clear(); S.anchor = i; go(i); }
  });
  function span(a, b) {
    const x = S.order.indexOf(a), y = S.order.indexOf(b);
    if (x < 0 || y < 0) return;
    S.selected = new Set(S.order.slice(Math.min(x, y), Math.max(x, y) + 1));
  }
  function selectionText() { $("selection").textContent = S.selected.size > 1 ? `${S.selected.size} selected` : ""; }

  // ---- choosing and deciding ---------------------------------------------------------------------------------------------
  function go(i, keepSelection) {
    S.current = Math.max(0, Math.min(stack().frames.length - 1, i));
    if (!keepSelection) { S.anchor = S.current; S.selected.clear(); }
    const at = S.order.indexOf(S.current), box = $("rows");
    if (at >= 0 && (at * kRow < box.scrollTop || (at + 1) * kRow > box.scrollTop + box.clientHeight)) box.scrollTop = Math.max(0, at * kRow - box.clientHeight / 2);
    selectionText();
    drawRows();
    strips();
    caption();
    redraw();
    prefetch();
    pictures.sharpen();
  }
  function step(by, extend) {
    const at = S.order.indexOf(S.current), next = S.order[Math.max(0, Math.min(S.order.length - 1, (at < 0 ? 0 : at) + by))];
    if (next === undefined) return;
    if (extend) { span(S.anchor, next); go(next, true); } else go(next);
  }
  function decide(word) {
    const chosen = S.selected.size ? [...S.selected] : [S.current];
    for (const i of chosen) {
      if (stack().frames[i].hindrance) continue;
      const before = stack().frames[i].decision || null, after = word === "auto" ? null : { keep: word === "keep", note: before ? before.note : "" };
      if (!!before === !!after && (!before || before.keep === after.keep)) S.decisions.delete(key(i));
      else S.decisions.set(key(i), after);
    }
    judge();
  }
  function nextDoubtful() {
    const n = stack().frames.length;
    for (let k = 1; k <= n; ++k) if (doubtful((S.current + k) % n)) return go((S.current + k) % n);
    say("No other exposure is near a limit");
  }

  // ---- pictures ----------------------------------------------------------------------------------------------------------
  const starLists = new Map();
  function item(i, label) {
    const f = stack().frames[i], place = key(i), raw = $("raw").checked && !alone;
    if ($("stars").checked && !f.stars && !starLists.has(place) && !alone) {
      starLists.set(place, []);
      fetch("stars/" + place).then(r => r.json()).then(list => { starLists.set(place, list); redraw(); }).catch(() => {});
    }
    if ($("rejected").checked && f.judged && !f.rejected && !alone) {
      f.rejected = { runs: [] };
      fetch("rejected/" + place).then(r => r.json()).then(list => { f.rejected = list || f.rejected; redraw(); }).catch(() => {});
    }
    return { frame: f, key: place, inline: f.image, address: raw ? `picture/${place}?raw=1&of=${D.generation}` : `preview/${place}?of=${D.generation}`, stars: f.stars || starLists.get(place), comet: comet.on(f), star: S.star && S.star.place === place ? S.star : null, label };
  }
  function extremes() {
    const frames = stack().frames, m = Number(S.sort) || M.worth, sign = D.measures[m].better < 0 ? -1 : 1;
    const order = frames.map((f, i) => i).filter(i => frames[i].width && frames[i].v[m] !== null).sort((a, b) => sign * (frames[b].v[m] - frames[a].v[m]));
    return { best: order[0], worst: order[order.length - 1], m };
  }
  function shownFrames() {
    const { best, worst } = S.comparing ? extremes() : {};
    return best === undefined ? [S.current] : [best, worst];
  }
  const pictures = new Kasane.Pictures($("picture"), {
    redraw: () => redraw(),
    clicked: place => pointAt(place),
    clickedTwice: () => clearTimeout(S.picking),
    look: () => {
      const { best, worst, m } = S.comparing ? extremes() : {};
      const frames = shownFrames().map(i => item(i, i === best ? `best ${D.measures[m].name}: ${stack().frames[i].file}` : i === worst ? `worst: ${stack().frames[i].file}` : undefined));
      let common = null;
      if ($("common").checked && !($("raw").checked && !alone)) {
        const scales = stack().frames.filter(f => f.scale).map(f => f.scale);
        const middle = list => list.sort((a, b) => a - b)[Math.floor(list.length / 2)];
        if (scales.length) common = { zero: [0, 1, 2].map(p => middle(scales.map(s => s.zero[p]))), soft: [0, 1, 2].map(p => middle(scales.map(s => s.soft[p]))) };
      }
      return {
        frames, common, registered: $("registered").checked || S.comparing, stars: $("stars").checked, streaks: $("streaks").checked, rejected: $("rejected").checked, zones: $("zones").checked,
        raw: $("raw").checked && !alone, live: !alone, tint: S.look === "night" ? [1, 0.52, 0.4] : null, colours: C,
      };
    },
  });
  let pending = 0;
  function redraw() { if (!pending) pending = requestAnimationFrame(() => { pending = 0; pictures.draw(); }); }
  function prefetch() {
    const at = S.order.indexOf(S.current);
    for (let k = 1; k <= 10; ++k) for (const i of [S.order[at + k], k < 4 ? S.order[at - k] : undefined]) if (i !== undefined) {
      const it = item(i);
      if (it.frame.preview) pictures.load(it.address, it.inline, it.frame.scale);
    }
  }
  function caption() {
    const f = stack().frames[S.current], v = S.verdicts[S.current], box = $("caption");
    box.textContent = "";
    box.append(el("b", { class: v.keep ? "keep" : "drop" }, v.keep ? "● keep " : "✕ drop "), `${f.file}  ${f.start.replace("T", " ").slice(0, 19)}, ${f.seconds || text(M.seconds, f.v[M.seconds])} s`);
    if (S.lead && S.lead.stack === S.stack && S.lead.frame === S.current) box.append(", will give the grid");
    else if (f.file === stack().reference) box.append(S.lead ? ", gives the grid until then" : ", gives the grid");
    const pointed = comet.text(f, S.pointing);
    if (pointed) box.append(el("br"), pointed);
    const why = reason(S.current);
    if (why) box.append(el("br"), why);
  }
  function point() {
    S.pointing = !S.pointing;
    $("comet").setAttribute("aria-pressed", S.pointing);
    $("picture").style.cursor = S.pointing ? "crosshair" : "";
    caption();
    redraw();
  }
  function pointAt({ shown, x, y }) {
    if (!S.pointing) return S.comparing ? lookThere(shown, x, y) : pickSoon(x, y);
    const i = shownFrames()[shown], f = stack().frames[i];
    if (f.time === null) { say("Nothing says when this exposure was taken: a mark on it leads nowhere"); return; }
    const taken = comet.point(f, x, y, 12 / pictures.view.zoom);
    say(`${taken ? "Taken away" : "Marked"}: ${shortName(f)}; ${comet.count()} mark${comet.count() === 1 ? "" : "s"}${comet.count() < 2 ? ", two are needed" : ""}`);
    judge();
  }
  function lookThere(shown, x, y) {
    const [a, b, tx, d, e, ty] = Kasane.Pictures.toGrid(stack().frames[shownFrames()[shown]], true);
    pictures.lookAt(a * x + b * y + tx, d * x + e * y + ty);
  }
  // Unless a second click follows, which shows the whole frame.
  function pickSoon(x, y) {
    clearTimeout(S.picking);
    S.picking = setTimeout(() => pickStar(x, y), 250);
  }
  // The star at a click: its profile, as the calibrated exposure shows it.
  async function pickStar(x, y) {
    const place = key(S.current), file = shortName(stack().frames[S.current]), reach = 14 / pictures.view.zoom;
    if (alone) { say("Profiles of stars are shown where kasane review serves the page"); return; }
    S.star = await fetch(`star/${place}?x=${Math.round(x)}&y=${Math.round(y)}&r=${Math.max(4, Math.round(reach))}`).then(r => (r.ok ? r.json() : null)).catch(() => null);
    if (!S.star) { say("No star was found there"); redraw(); return; }
    Object.assign(S.star, { place, file });
    tab("star");
    redraw();
  }
  let starChart = null;
  function starTab() {
    const s = S.star;
    $("startext").textContent = s ? `${s.file}. ${Kasane.starText(s)}` : "Click a star in the picture.";
    if (starChart) { starChart.destroy(); starChart = null; }
    if (!s) return;
    starChart = new Chart($("starprofile"), { type: "scatter", data: { datasets: Kasane.profileSets(s, C.keep, C.drop) }, options: { ...fresh, scales: { x: axis("pixels from its middle"), y: axis("ADU over the sky") } } });
  }
  function play() {
    clearInterval(S.playing);
    if (S.playing) { S.playing = 0; $("play").textContent = "Play"; return; }
    $("play").textContent = "Stop";
    S.playing = setInterval(() => {
      const at = S.order.indexOf(S.current), next = S.order[(at + 1) % S.order.length], it = item(next), entry = pictures.load(it.address, it.inline, it.frame.scale);
      if (entry.ready || entry.failed) go(next); // never ahead of its picture
    }, 1000 / Math.max(1, Math.min(30, Number($("speed").value) || 6)));
  }

  // ---- cost, together, limits ----------------------------------------------------------------------------------------------
  const fresh = { animation: false, responsive: true, maintainAspectRatio: false, parsing: false, plugins: { legend: { display: false }, tooltip: { displayColors: false } } };
  const axis = title => ({ type: "linear", title: { display: true, text: title, color: C.faint, font: { size: 11 } }, ticks: { color: C.faint, maxTicksLimit: 6, font: { size: 10 } }, grid: { color: C.line } });
  let curveChart = null, scatterChart = null;
  function curveOf() {
    const frames = stack().frames, m = Number($("slidemeasure").value), sign = D.measures[m].better < 0 ? 1 : -1;
    const value = i => (frames[i].v[m] === null ? Infinity : sign * frames[i].v[m]);
    const others = S.limits.some(l => l.slide) ? judgeStack(S.stack, S.limits.filter(l => !l.slide), false) : S.verdicts;
    const order = frames.map((f, i) => i).filter(i => others[i].keep && frames[i].info > 0).sort((a, b) => value(b) - value(a) || a - b);
    const f = new Kasane.Forecast(M.fwhm);
    for (const i of order) f.add(frames[i], 1);
    const points = [f.result()];
    const stepSize = Math.max(1, Math.floor(order.length / 100));
    for (let k = 0; k + 1 < order.length; ++k) {
      f.add(frames[order[k]], -1);
      if ((k + 1) % stepSize === 0) points.push(f.result());
    }
    return { order, points, m };
  }
  function tabs() {
    if (S.tab === "cost") cost();
    else if (S.tab === "together") together();
    else if (S.tab === "star") starTab();
    else limitList();
  }
  function cost() {
    const { order, points } = curveOf(), data = points.filter(p => p.noise > 0 && p.fwhm > 0).map(p => ({ x: p.noise, y: p.fwhm, frames: p.frames }));
    const shown = data.filter(p => p.x < 2.5 * (data[0] ? data[0].x : 1));
    const here = S.now.noise > 0 && S.now.fwhm > 0 ? [{ x: S.now.noise, y: S.now.fwhm, frames: S.now.frames }] : [];
    const saved = S.saved.noise > 0 ? [{ x: S.saved.noise, y: S.saved.fwhm, frames: S.saved.frames }] : [];
    const sets = [{ data: here, pointRadius: 6, backgroundColor: C.hand, borderColor: C.hand, pointStyle: "circle" }, { data: saved, pointRadius: 7, borderColor: C.ink, backgroundColor: "transparent", borderWidth: 1.5, pointStyle: "rectRot" },
      { data: shown, showLine: true, pointRadius: 1.5, borderColor: C.keep, backgroundColor: C.keep, borderWidth: 1.5 }];
    const options = { ...fresh, scales: { x: axis("noise of the master, ADU"), y: axis("FWHM of the master, px") } };
    options.plugins = { ...fresh.plugins, tooltip: { displayColors: false, callbacks: { label: c => `${c.raw.frames} exposures: noise ${c.raw.x.toFixed(2)}, FWHM ${c.raw.y.toFixed(2)} px` } } };
    if (!curveChart) curveChart = new Chart($("curve"), { type: "scatter", data: { datasets: sets }, options });
    else { curveChart.data.datasets = sets; curveChart.options = options; curveChart.update("none"); }
    const slide = $("slide"), own = S.limits.find(l => l.slide);
    slide.max = Math.max(0, order.length - 1);
    slide.value = own && own.ranking ? order.length - own.ranking.count : 0;
    $("slid").textContent = `${slide.value} of ${order.length}`;
  }
  function slid() {
    const { order, m } = curveOf(), drop = Number($("slide").value);
    S.limits = S.limits.filter(l => !l.slide);
    if (drop > 0) S.limits.push({ conditions: [], filters: D.stacks.length > 1 && stack().filter ? [stack().filter] : [], night: "", ranking: { count: order.length - drop, percent: false, by: m }, slide: true });
    judge();
  }
  function together() {
    const xm = Number($("xaxis").value), ym = Number($("yaxis").value), name = m => D.measures[m].name + (D.measures[m].unit ? ", " + D.measures[m].unit : "");
    const points = stack().frames.map((f, i) => ({ x: f.v[xm], y: f.v[ym], i })).filter(p => p.x !== null && p.y !== null);
    const many = points.length > 800 ? 2 : 3.5;
    const set = (keep, style, c) => ({ data: points.filter(p => S.verdicts[p.i].keep === keep), pointRadius: many, pointStyle: style, borderColor: c, backgroundColor: keep ? c : "transparent", borderWidth: keep ? 0 : 1.4 });
    const sets = [{ data: points.filter(p => p.i === S.current), pointRadius: 7, borderColor: C.hand, backgroundColor: "transparent", borderWidth: 2 }, set(true, "circle", C.keep), set(false, "crossRot", C.drop)];
    const options = { ...fresh, scales: { x: axis(name(xm)), y: axis(name(ym)) }, onClick: (e, hits) => { if (hits.length) go(sets[hits[0].datasetIndex].data[hits[0].index].i); } };
    options.plugins = { ...fresh.plugins, tooltip: { displayColors: false, callbacks: { label: c => stack().frames[c.raw.i].file } } };
    if (scatterChart) { scatterChart.destroy(); }
    scatterChart = new Chart($("scatter"), { type: "scatter", data: { datasets: sets }, options });
  }
  function limitList() {
    if (document.activeElement && document.activeElement.closest("#limitlist") && document.activeElement.tagName === "INPUT" && document.activeElement.type === "number") return counts();
    const list = $("limitlist");
    list.textContent = "";
    S.limits.forEach((limit, k) => {
      const li = el("li"), terms = el("span", { class: "terms" }), on = el("input", { type: "checkbox", "aria-label": "In force" });
      on.checked = !limit.off;
      on.addEventListener("change", () => { limit.off = !on.checked; judge(); });
      const number = (get, set) => {
        const input = el("input", { type: "number", step: "any", "aria-label": "Bound" });
        input.value = Number(get().toPrecision(5));
        input.step = Math.max(1e-4, 10 ** Math.floor(Math.log10(Math.abs(get()) || 1) - 1));
        input.addEventListener("input", () => { if (isFinite(input.valueAsNumber)) { set(input.valueAsNumber); judge(); } });
        return input;
      };
      if (limit.ranking) terms.append("best", number(() => limit.ranking.count, v => { limit.ranking.count = Math.max(1, v); }), `${limit.ranking.percent ? "% " : ""}by ${D.measures[limit.ranking.by].name}`);
      limit.conditions.forEach((c, n) => {
        const m = D.measures[c.measure], tail = Kasane.conditionText({ ...c, number: 1 }, D.measures).split(/[<>]=? /)[1];
        terms.append(`${n ? " and " : ""}${m.name} ${c.above ? ">" : "<"}${c.equal ? "=" : ""}`, number(() => c.number, v => { c.number = v; }), c.reference ? "x " + tail : m.unit);
      });
      if (limit.filters.length) terms.append(" for " + limit.filters.join(", "));
      if (limit.night) terms.append(" on " + limit.night);
      const gone = el("button", { title: "Remove" }, "✕");
      gone.addEventListener("click", () => { S.limits.splice(k, 1); judge(); });
      li.append(on, terms, el("span", { class: "count" }), gone);
      list.append(li);
    });
    counts();
  }
  function counts() {
    document.querySelectorAll("#limitlist .count").forEach((span, k) => {
      const hit = S.verdicts.filter(v => v.hits.includes(k)), only = hit.filter(v => v.hits.length === 1).length;
      span.textContent = hit.length ? `drops ${hit.length}${only < hit.length ? `, ${only} alone` : ""}` : "drops none";
    });
  }
  function tab(name) {
    S.tab = name;
    for (const b of document.querySelectorAll("#tabs button")) b.setAttribute("aria-selected", b.dataset.tab === name);
    for (const t of ["cost", "together", "limits", "star", "growing"]) $(t).hidden = t !== name;
    if (growing && name === "growing") growing.draw();
    if (S.verdicts.length) tabs();
  }

  // ---- accepting ---------------------------------------------------------------------------------------------------------
  function say(message) {
    const box = $("message");
    box.textContent = message;
    box.classList.add("shown");
    clearTimeout(say.timer);
    say.timer = setTimeout(() => box.classList.remove("shown"), 4000);
  }
  async function post(address, body) {
    const response = await fetch(address, { method: "POST", headers: { "Content-Type": "application/json" }, body: JSON.stringify(body) });
    const answer = await response.json();
    if (answer.error) throw new Error(answer.error);
    return answer;
  }
  function fresher(data) {
    const current = S.current;
    const lights = () => JSON.stringify(D.stacks.map(s => [s.name, s.frames.map(f => f.file)])), before = lights();
    D = data;
    S.decisions.clear();
    S.lead = null;
    comet.forget();
    S.limits = copy(D.limits);
    S.current = current;
    if (lights() !== before) return others();
    judge();
  }
  // Other lights than before: what is known by number means others now.
  function others() {
    const name = S.shownStack;
    starLists.clear();
    S.star = null;
    pictures.forget();
    stackButtons();
    telescope();
    chooseStack(Math.max(0, D.stacks.findIndex(s => s.name === name)));
    go(stack().frames.length - 1);
  }
  function decisionsList() {
    return [...S.decisions].map(([k, d]) => { const [s, f] = k.split("/").map(Number); return { stack: s, frame: f, verdict: d ? (d.keep ? "keep" : "drop") : "auto", note: d ? d.note : "" }; });
  }
  async function accept() {
    if (!changed()) return;
    const limits = S.limits.filter(l => !l.off).map(l => Kasane.limitText(l, D.measures)), moved = limitsText(S.limits) !== limitsText(D.limits);
    if (alone) {
      const quoted = t => JSON.stringify(t);
      let out = decisionsList().map(d => `[[verdict]]\nfile = ${quoted(D.stacks[d.stack].frames[d.frame].file)}\nverdict = "${d.verdict}"\n`).join("\n");
      if (S.lead) out += `${out ? "\n" : ""}# kasane.toml\n[registration]\nreference = ${quoted(leadFile())}\n`;
      if (comet.changed()) out += `${out ? "\n" : ""}# kasane.toml\n${comet.recipe()}`;
      if (moved) out += `${out ? "\n" : ""}# kasane.toml\n[grading]\nlimits = [\n${limits.map(l => `    ${quoted(l)},\n`).join("")}]\n`;
      $("export").querySelector("textarea").value = out;
      $("export").showModal();
      return;
    }
    try {
      const n = S.decisions.size, written = [], lead = S.lead ? leadFile() : "", pointed = comet.changed();
      fresher(await post("accept", { generation: D.generation, decisions: decisionsList(), limits: moved ? limits : null, reference: S.lead, comet: comet.changes() }));
      if (n) written.push(n + " verdicts in verdicts.toml");
      if (moved) written.push("limits in kasane.toml");
      if (pointed) written.push(`${comet.count()} marks of a comet in kasane.toml, followed from the next run on`);
      if (lead) written.push(`${lead} gives the grid from the next run on (kasane.toml)`);
      say(`Written: ${written.join(", ")}`);
    } catch (e) { say(String(e.message || e)); }
  }
  async function undo() {
    if (alone || !(D.undo > 0)) return;
    try { fresher(await post("undo", {})); say("The last acceptance was taken back"); } catch (e) { say(String(e.message || e)); }
  }
  const leadFile = () => D.stacks[S.lead.stack].frames[S.lead.frame].file;
  function lead() {
    const f = stack().frames[S.current];
    if (!f) return;
    if (f.hindrance) { say("This light cannot give the grid: " + f.hindrance); return; }
    const again = S.lead && S.lead.stack === S.stack && S.lead.frame === S.current;
    S.lead = again || f.file === stack().reference ? null : { stack: S.stack, frame: S.current };
    judge();
  }
  function discard() { S.decisions.clear(); S.lead = null; comet.forget(); S.limits = copy(D.limits); judge(); }

  // ---- wiring ------------------------------------------------------------------------------------------------------------
  function measureSelect(value, id) {
    const select = el("select", { id });
    D.measures.forEach((m, i) => select.append(el("option", { value: i, title: m.meaning }, m.name)));
    select.value = value;
    return select;
  }
  function fill(id, value) { const s = measureSelect(value); $(id).append(...s.children); $(id).value = value; }
  function chooseStack(s) {
    S.stack = s;
    S.shownStack = stack().name;
    S.current = 0;
    S.selected.clear();
    pictures.view = null;
    for (const b of document.querySelectorAll("#stacks button")) b.setAttribute("aria-pressed", Number(b.dataset.s) === s);
    judge();
    prefetch();
    if (growing && S.tab === "growing") growing.draw();
  }
  function setLook(look) {
    S.look = look;
    document.documentElement.dataset.look = look;
    localStorageSet("look", look);
    C = Object.fromEntries(["keep", "drop", "hand", "mark", "line", "faint", "ink", "accent", "panel"].map(n => [n, colour(n)]));
    if (S.verdicts.length) judge();
  }
  $("project").textContent = D.folder;
  document.title = `Kasane: review of ${D.folder}`;
  function stackButtons() {
    $("stacks").textContent = "";
    D.stacks.forEach((s, i) => {
      const b = el("button", { "data-s": i, title: s.name }, s.filter || s.name);
      b.addEventListener("click", () => chooseStack(i));
      $("stacks").append(b);
    });
  }
  function telescope() { $("telescope").textContent = D.drifts.map(d => `${d.night}: ${d.diagnosis.join("; ")}`).join(" · "); }
  stackButtons();
  telescope();
  $("sort").append(el("option", { value: "time" }, "time"));
  fill("sort", ""); $("sort").value = "time";
  fill("slidemeasure", M.fwhm); fill("xaxis", M.fwhm); fill("yaxis", M.stars); fill("newmeasure", M.fwhm);
  header();
  $("sort").addEventListener("change", () => { S.sort = $("sort").value; rows(); redraw(); });
  $("show").addEventListener("change", rows);
  for (const id of ["xaxis", "yaxis"]) $(id).addEventListener("change", together);
  $("slidemeasure").addEventListener("change", () => { S.limits = S.limits.filter(l => !l.slide); judge(); });
  $("slide").addEventListener("input", slid);
  for (const word of ["keep", "drop", "auto"]) $(word).addEventListener("click", () => decide(word));
  for (const id of ["common", "registered", "stars", "streaks", "rejected", "zones", "raw"]) $(id).addEventListener("change", () => { if (id === "registered") pictures.view = null; pictures.fine.clear(); pictures.moved(); });
  $("lead").addEventListener("click", lead);
  $("raw").disabled = alone;
  $("previous").addEventListener("click", () => step(-1));
  $("next").addEventListener("click", () => step(1));
  $("play").addEventListener("click", play);
  $("speed").addEventListener("change", () => { if (S.playing) { play(); play(); } });
  $("comet").addEventListener("click", point);
  $("compare").addEventListener("click", compare);
  // Best and worst at pixel scale: the middle first, then wherever one clicks, or corner by corner.
  function compare() {
    S.comparing = !S.comparing;
    S.corner = 0;
    pictures.view = null;
    $("compare").setAttribute("aria-pressed", S.comparing);
    if (S.comparing) corner(0); else redraw();
  }
  function corner(by) {
    if (!S.comparing) return;
    S.corner = (S.corner + by) % 5;
    const f = stack().frames[shownFrames()[0]], r = $("picture").getBoundingClientRect();
    if (!f.width) return;
    const [a, b, tx, d, e, ty] = Kasane.Pictures.toGrid(f, true), edge = 20;
    const half = [Math.min(f.width / 2, r.width / 4 - edge), Math.min(f.height / 2, r.height / 2 - edge)];
    const x = [f.width / 2, half[0], f.width - half[0], f.width - half[0], half[0]][S.corner], y = [f.height / 2, half[1], half[1], f.height - half[1], f.height - half[1]][S.corner];
    pictures.lookAt(a * x + b * y + tx, d * x + e * y + ty);
  }
  $("accept").addEventListener("click", accept);
  $("discard").addEventListener("click", discard);
  $("undo").addEventListener("click", undo);
  $("theme").addEventListener("click", () => setLook(S.look === "night" ? "day" : "night"));
  $("help").addEventListener("click", () => $("keys").showModal());
  for (const b of document.querySelectorAll("#tabs button")) b.addEventListener("click", () => tab(b.dataset.tab));
  $("newlimit").addEventListener("submit", e => {
    e.preventDefault();
    addLimit(Number($("newmeasure").value), $("newabove").value === "1", Number($("newnumber").value), $("newreference").value);
  });
  const toggle = id => { $(id).checked = !$(id).checked; $(id).dispatchEvent(new Event("change")); };
  const keys = {
    ArrowRight: ["next exposure; with Shift the span grows", e => step(1, e.shiftKey)], ArrowLeft: ["previous exposure", e => step(-1, e.shiftKey)],
    ArrowDown: ["next in the table", e => step(1, e.shiftKey)], ArrowUp: ["previous in the table", e => step(-1, e.shiftKey)],
    PageDown: ["ten on", e => step(10, e.shiftKey)], PageUp: ["ten back", e => step(-10, e.shiftKey)],
    Home: ["first", () => step(-1e9)], End: ["last", () => step(1e9)], " ": ["play or stop", play],
    k: ["keep", () => decide("keep")], d: ["drop", () => decide("drop")], a: ["leave to the limits", () => decide("auto")], g: ["this light gives the grid of all", lead],
    n: ["next doubtful exposure, within a tenth of a limit", nextDoubtful], Escape: ["forget the selection", () => { S.selected.clear(); selectionText(); judge(); }],
    s: ["one stretch for all, or each by itself", () => toggle("common")], r: ["registered: stars stand still", () => toggle("registered")],
    o: ["detected stars", () => toggle("stars")], t: ["streaks", () => toggle("streaks")], x: ["what the last master light left out of it", () => toggle("rejected")], z: ["zones", () => toggle("zones")],
    b: ["raw or calibrated", () => { if (!alone) toggle("raw"); }], c: ["best and worst side by side, at pixel scale; a click looks there", compare], v: ["the next corner of both, then the middle", () => corner(1)], m: ["point at a comet", point],
    "+": ["closer (mouse wheel)", () => pictures.zoomBy(1.25)], "-": ["farther", () => pictures.zoomBy(0.8)], "0": ["whole frame (double-click)", () => { pictures.view = null; pictures.moved(); }],
    l: ["light or night look", () => setLook(S.look === "night" ? "day" : "night")],
    "1": ["cost", () => tab("cost")], "2": ["measures together", () => tab("together")], "3": ["limits", () => tab("limits")], "4": ["the profile of the star that was clicked", () => tab("star")],
    "[": ["previous filter", () => chooseStack((S.stack + D.stacks.length - 1) % D.stacks.length)], "]": ["next filter", () => chooseStack((S.stack + 1) % D.stacks.length)],
    "?": ["these keys", () => $("keys").showModal()],
  };
  const names = { " ": "Space", ArrowRight: "→", ArrowLeft: "←", ArrowUp: "↑", ArrowDown: "↓", Escape: "Esc" };
  const table = el("table");
  for (const [k, [what]] of [...Object.entries(keys), ["Ctrl+Enter", ["accept"]], ["Ctrl+Z", ["undo the last acceptance"]]]) {
    const row = el("tr"), cell = el("td");
    cell.append(el("kbd", {}, names[k] || k.toUpperCase()));
    row.append(cell, el("td", {}, what));
    table.append(row);
  }
  const close = el("button", {}, "Close");
  close.addEventListener("click", () => $("keys").close());
  $("keys").append(table, close);
  document.addEventListener("keydown", e => {
    if (document.querySelector("dialog[open]")) return;
    if ((e.ctrlKey || e.metaKey) && e.key === "Enter") { e.preventDefault(); accept(); return; }
    const typing = /^(INPUT|TEXTAREA|SELECT)$/.test(e.target.tagName) && e.target.type !== "checkbox";
    if ((e.ctrlKey || e.metaKey) && e.key.toLowerCase() === "z" && !typing) { e.preventDefault(); undo(); return; }
    if (e.ctrlKey || e.metaKey || e.altKey || typing) return;
    if (e.target.tagName === "BUTTON" && (e.key === " " || e.key === "Enter")) return;
    const action = keys[e.key] || keys[e.key.toLowerCase()] || (e.key === "=" ? keys["+"] : null);
    if (!action) return;
    e.preventDefault();
    action[1](e);
  });
  new ResizeObserver(() => { strips(); drawRows(); redraw(); }).observe(document.body);
  new ResizeObserver(redraw).observe($("picture")); // whatever moves beside it
  window.addEventListener("beforeunload", e => { if (changed() && !alone) e.preventDefault(); });
  setLook(S.look);
  const begin = () => { growing = new Kasane.Growing({ stack: () => stack().name, changed, say, fresher, axis, options: fresh, colours: () => C }); };
  tab("cost");
  chooseStack(D.stacks.reduce((best, s, i) => (s.frames.length > D.stacks[best].frames.length ? i : best), 0));
  if (D.growing) { begin(); tab("growing"); }
  window.kasaneState = { S, data: () => D, judge, go, decide, pictures, comet };
})();
