// The report page: everything it shows came with it.
"use strict";

(function () {
  const $ = id => document.getElementById(id);
  const el = (name, attributes = {}, text = "") => {
    const e = document.createElement(name);
    for (const [k, v] of Object.entries(attributes)) if (v !== undefined && v !== false) e.setAttribute(k, v);
    e.textContent = text;
    return e;
  };
  const svg = (name, attributes) => {
    const e = document.createElementNS("http://www.w3.org/2000/svg", name);
    for (const [k, v] of Object.entries(attributes)) e.setAttribute(k, v);
    return e;
  };
  const D = window.kasaneData, made = D.stacks.filter(s => s.file);
  const S = { stack: 0, star: -1, pair: 0, second: false, timer: 0, look: kept("look") || (matchMedia("(prefers-color-scheme: dark)").matches ? "night" : "day") };
  function kept(key) { try { return localStorage.getItem("kasane-" + key); } catch { return null; } }
  function keep(key, value) { try { localStorage.setItem("kasane-" + key, value); } catch { /* private window, or a file */ } }
  const known = v => v !== null && v !== undefined && isFinite(v);
  const fixed = (v, n) => (known(v) ? v.toFixed(n) : "-");
  const digits = (v, n) => (known(v) ? String(Number(v.toPrecision(n))) : "-");
  const percent = (v, n = 1) => (known(v) ? `${(100 * v).toFixed(n).replace(/^-(0\.?0*)$/, "$1")} %` : "-");
  const hours = seconds => {
    const s = Math.round(seconds || 0), h = Math.floor(s / 3600), m = Math.round(s / 60) % 60;
    return h ? `${h} h ${String(m).padStart(2, "0")} min` : s >= 60 ? `${Math.round(s / 60)} min` : `${s} s`;
  };
  const label = s => (s.filter && D.stacks.filter(o => o.filter === s.filter).length === 1 ? s.filter : s.name);
  const now = () => made[S.stack];
  const colours = ["accent", "drop", "hand", "faint", "ink"];
  let C = {};

  // Rows of a table: heads are [text, is a number].
  function fill(table, heads, rows) {
    table.textContent = "";
    const head = el("tr");
    for (const [text, n] of heads) head.append(el("th", { class: n ? "n" : undefined }, text));
    table.append(head);
    for (const { cells, name, click } of rows) {
      const row = el("tr", { class: name });
      cells.forEach((c, i) => row.append(el("td", { class: heads[i][1] ? "n" : heads[i][0] === "night" ? "date" : undefined }, c)));
      if (click) row.addEventListener("click", click);
      table.append(row);
    }
  }

  // ---- the result ----------------------------------------------------------------------------------------------------
  function table() {
    const heads = [["", false], ["lights", true], ["exposure", true], ["effective", true], ["noise", true], ["FWHM", true], ["limit", true]];
    fill($("table"), heads, D.stacks.map(s => ({
      name: `${s === now() ? "now " : ""}${s.file ? "pick" : "left"}`, click: s.file ? () => choose(made.indexOf(s)) : undefined,
      cells: s.file ? [label(s), `${s.used} of ${s.used + s.dropped}`, hours(s.seconds), hours(s.effective), `${digits(s.noise, 3)} ADU`, `${fixed(s.fwhm, 2)} px`, known(s.limiting_magnitude) ? `${fixed(s.limiting_magnitude, 2)} mag` : `${digits(s.limiting_flux, 3)} ADU`]
        : [label(s), `0 of ${s.dropped}`, "-", "-", "-", "-", s.failure || "nothing could be used"],
    })));
    for (const cell of $("table").querySelectorAll("th:last-child")) cell.title = "Flux that stands out of the noise by five sigma in a disc as wide as the FWHM of the stars; magnitudes by what the headers of the lights say";
    for (const cell of $("table").querySelectorAll("th:nth-child(4)")) cell.title = "Seconds times worth: as much as if every light had been as good as the best";
  }
  function findings() {
    const list = $("findings"), add = (level, text, remedy, files) => {
      const li = el("li", { class: level });
      if (files && files.length) li.append(el("b", {}, files[0] + (files.length > 1 ? ` and ${files.length - 1} more` : "")), ": ");
      li.append(/[.?!]$/.test(text) ? text : text + ".", remedy ? el("span", { class: "remedy" }, ` ${remedy}.`) : "");
      if (files && files.length > 1) li.title = files.slice(0, 40).join("\n");
      list.append(li);
    };
    list.textContent = "";
    for (const s of D.stale) add("warning", s, "This page shows the last run; kasane run makes it anew");
    for (const f of D.findings) if (f.level !== "note") add(f.level, f.text, f.remedy, f.files);
    for (const s of D.stacks) if (s.dropped) {
      const out = s.frames.filter(f => !f.used).sort((a, b) => (b.worth || 0) - (a.worth || 0)), lost = out.reduce((sum, f) => sum + (f.worth || 0) * f.seconds, 0);
      add("note", `${label(s)}: ${s.dropped} of ${s.used + s.dropped} lights left out${lost > 0 ? ` (${hours(lost)} effective)` : ""}${out.length ? `; ${out.length > 1 ? "the best of them" : "it"}: ${out[0].reason}` : ""}`, "");
    }
    for (const f of D.findings) if (f.level === "note") add(f.level, f.text, f.remedy, f.files);
    for (const t of D.left_out) add("warning", `not shown: ${t}`, "");
    if (!list.children.length) add("fine", "Nothing was found wanting", "");
  }
  function picture() {
    const s = now(), img = $("master");
    img.src = s.picture ? s.picture.address : "";
    img.alt = `Master light ${s.name}, stretched`;
    $("caption").textContent = s.picture ? `${s.name}: ${s.width} x ${s.height} pixels, stretched for the screen; the file itself is linear. Click a star.` : `${s.name}: its preview could not be read.`;
    S.star = -1;
    star();
  }
  // Where in the box the picture lies: it keeps its shape.
  function placed() {
    const box = $("master").getBoundingClientRect(), s = now();
    if (!s.picture || !s.width) return null;
    const scale = Math.min(box.width / s.width, box.height / s.height);
    return { scale, x: (box.width - s.width * scale) / 2, y: (box.height - s.height * scale) / 2, box };
  }
  function pick(e) {
    if (!made.length) return;
    const at = placed(), stars = now().profiles || [];
    if (!at || !stars.length) return;
    const x = (e.clientX - at.box.left - at.x) / at.scale, y = (e.clientY - at.box.top - at.y) / at.scale;
    let best = -1, least = 25 / at.scale;
    stars.forEach((s, i) => { const d = Math.hypot(s.x - x, s.y - y); if (d < least) { least = d; best = i; } });
    S.star = best;
    star();
  }
  let chart = null;
  const axis = title => ({ type: "linear", title: { display: true, text: title, color: C.faint, font: { size: 11 } }, ticks: { color: C.faint, maxTicksLimit: 7, font: { size: 10 } }, grid: { color: C.line } });
  function star() {
    if (!made.length) return;
    const marks = $("marks"), s = (now().profiles || [])[S.star], at = placed();
    marks.textContent = "";
    $("star").hidden = !s;
    if (!s) return;
    if (at) {
      marks.setAttribute("viewBox", `0 0 ${at.box.width} ${at.box.height}`);
      marks.append(svg("circle", { cx: at.x + (s.x + 0.5) * at.scale, cy: at.y + (s.y + 0.5) * at.scale, r: Math.max(9, 2 * s.fwhm * at.scale) }));
    }
    const options = { animation: false, responsive: true, maintainAspectRatio: false, parsing: false, plugins: { legend: { display: false }, tooltip: { displayColors: false } }, scales: { x: axis("pixels from its middle"), y: axis("ADU over the sky") } };
    if (chart) chart.destroy();
    chart = new Chart($("profile"), { type: "scatter", data: { datasets: Kasane.profileSets(s, C.accent, C.drop) }, options });
    $("startext").textContent = Kasane.starText(s);
  }

  // ---- how it grew -----------------------------------------------------------------------------------------------------
  let curve = null;
  function growth() {
    const sets = [];
    made.forEach((s, k) => {
      const nights = s.growth.nights, colour = C[colours[k % colours.length]], mine = s === now();
      if (!nights.length) return;
      const last = nights[nights.length - 1], points = nights.map(n => ({ x: n.seconds_until / 3600, y: n.noise, night: n.night }));
      sets.push({ label: label(s), data: points, showLine: true, borderColor: colour, backgroundColor: colour, pointRadius: mine ? 4.5 : 3, borderWidth: mine ? 2.2 : 1.2 });
      const line = [], end = 1.5 * last.seconds_until;
      for (let i = 1; i <= 60; ++i) { const t = end * i / 60; if (t >= 0.6 * nights[0].seconds_until) line.push({ x: t / 3600, y: last.noise * Math.sqrt(last.seconds_until / t) }); }
      if (mine) sets.push({ label: "square root of the time", data: line, showLine: true, pointRadius: 0, borderColor: C.faint, borderWidth: 1.2, borderDash: [5, 4] });
    });
    const options = { animation: false, responsive: true, maintainAspectRatio: false, parsing: false, scales: { x: axis("hours of exposure used"), y: axis("noise of the master light, ADU") },
      plugins: { legend: { labels: { color: C.ink, boxWidth: 14, font: { size: 11 } } }, tooltip: { displayColors: false, callbacks: { label: c => `${c.dataset.label} ${c.raw.night || ""}: ${digits(c.raw.y, 3)} ADU after ${c.raw.x.toFixed(1)} h` } } } };
    if (curve) curve.destroy();
    curve = new Chart($("curve"), { type: "scatter", data: { datasets: sets }, options });
    const g = now().growth, list = $("added");
    list.textContent = "";
    const say = text => list.append(el("li", {}, text));
    if (!g.nights.length) say("The exposure times of these lights are not known, so that nothing can be said of how it grew.");
    else {
      say(`Two more hours of ${label(now())}: noise ${percent(g.two_hours, 0)}. Another night like the best: ${percent(g.best_night, 0)}${g.nights.length > 1 ? `; like the usual one: ${percent(g.usual_night, 0)}` : ""}.`);
      say(`A second was worth ${fixed(g.worth, 2)} of one of the best light, on average.`);
      const balance = made.filter(s => s.effective > 0).sort((a, b) => a.effective - b.effective), most = balance[balance.length - 1];
      if (balance.length > 1) say(`Of the effective exposure ${label(balance[0])} has the least (${hours(balance[0].effective)}), ${label(most)} the most (${hours(most.effective)}).`);
    }
    fill($("nights"), [["night", false], ["lights", true], ["exposure", true], ["effective", true], ["noise until then", true]],
      g.nights.map(n => ({ cells: [n.night || "-", String(n.lights), hours(n.seconds), hours(n.effective), `${digits(n.noise, 3)} ADU`] })));
  }

  // ---- blink -------------------------------------------------------------------------------------------------------------
  function pairs() {
    const s = now(), look = what => s.looks.find(l => l.what === what), out = [], best = look("best"), worst = look("worst"), raw = look("as it came");
    const own = s.picture && { address: s.picture.address, text: `master light ${s.name}` };
    if (own && s.rejected) out.push(["Rejected", own, { address: s.rejected.address, text: `what was left out of it: warm above, cold below; ${percent(s.high + s.trails, 2)} above, ${percent(s.low, 2)} below of all samples` }]);
    if (own && s.before) out.push(["Before and now", { address: s.before.address, text: `as it was before: ${s.former.used} lights, ${hours(s.former.seconds)}` }, { address: own.address, text: `as it is now: ${s.used} lights, ${hours(s.seconds)}` }]);
    if (best && worst) out.push(["Best and worst", { address: best.address, text: `best light: ${best.file}` }, { address: worst.address, text: `worst that was used: ${worst.file}` }]);
    if (best && raw) out.push(["Calibration", { address: raw.address, text: `${raw.file} as it came from the camera` }, { address: best.address, text: "the same, calibrated" }]);
    if (own && best) out.push(["Light and master", { address: best.address, text: `one light: ${best.file}` }, own]);
    made.forEach(o => { if (o !== s && own && o.picture && o.width === s.width && o.height === s.height) out.push([`With ${label(o)}`, own, { address: o.picture.address, text: `master light ${o.name}` }]); });
    if (own && s.comet) out.push(["Comet", own, { address: s.comet.address, text: "the comet's own master light" }]);
    return out;
  }
  function blink() {
    const all = pairs(), box = $("pairs"), images = $("blinked").querySelectorAll("img");
    box.textContent = "";
    S.pair = Math.min(S.pair, Math.max(0, all.length - 1));
    all.forEach(([name], k) => {
      const b = el("button", { "aria-pressed": String(k === S.pair) }, name);
      b.addEventListener("click", () => { S.pair = k; S.second = false; blink(); });
      box.append(b);
    });
    $("blink").hidden = !all.length;
    if (!all.length) return;
    [1, 2].forEach(k => { if (images[k - 1].src !== all[S.pair][k].address) images[k - 1].src = all[S.pair][k].address; });
    images[0].classList.toggle("away", S.second);
    images[1].classList.toggle("away", !S.second);
    $("seen").textContent = all[S.pair][S.second ? 2 : 1].text;
  }
  function flip() { S.second = !S.second; blink(); }
  function byItself() {
    clearInterval(S.timer);
    S.timer = S.timer ? 0 : setInterval(flip, 700);
    $("auto").setAttribute("aria-pressed", String(Boolean(S.timer)));
  }

  // ---- stars over the field ------------------------------------------------------------------------------------------------
  function field() {
    const s = now(), shape = s.shape, box = $("stamps");
    box.textContent = "";
    $("field").hidden = !shape;
    if (!shape) return;
    s.stamps.forEach((stamp, k) => {
      const figure = el("figure"), z = shape.zones[k];
      if (stamp.address) figure.append(el("img", { src: stamp.address, alt: "" }));
      if (z.stars > 3 && z.eccentricity > 0.2) { // fewer are drawn out by their noise
        const marks = svg("svg", { viewBox: "-50 -50 100 100" }), a = -z.angle * Math.PI / 180, length = 34 * z.eccentricity;
        marks.append(svg("line", { x1: -length * Math.cos(a), y1: -length * Math.sin(a), x2: length * Math.cos(a), y2: length * Math.sin(a), stroke: "#ffc55c", "stroke-width": 1 }));
        figure.append(marks);
      }
      figure.append(el("figcaption", {}, z.stars ? `${fixed(z.fwhm, 2)} px` : "no stars"));
      box.append(figure);
    });
    const text = known(shape.tilt) ? `Stars grow by ${percent(shape.tilt)} across the field towards ${fixed(shape.tilt_angle, 0)} deg (tilt), and by ${percent(shape.curvature)} from the middle to the corners (curvature).` : "Too few stars to tell tilt and curvature.";
    $("fieldtext").textContent = `${text} Each picture is the mean of the brightest stars of a ninth of the field, linear, ${shape.finer} of its pixels to one of the master light; the line shows in which direction they are drawn out, and how far.`;
    const places = ["upper left", "top", "upper right", "left", "middle", "right", "lower left", "bottom", "lower right"];
    fill($("zones"), [["", false], ["stars", true], ["FWHM", true], ["eccentricity", true], ["direction", true]],
      shape.zones.map((z, k) => ({ cells: [places[k], String(z.stars), z.stars ? `${fixed(z.fwhm, 2)} px` : "-", z.stars ? fixed(z.eccentricity, 2) : "-", z.stars ? `${fixed(z.angle, 0)} deg` : "-"] })));
  }

  // ---- decisions ---------------------------------------------------------------------------------------------------------
  function topic(title, ...content) {
    const d = el("details");
    d.append(el("summary", {}, title), ...content);
    $("details").append(d);
    return d;
  }
  function list(lines) {
    const ul = el("ul");
    for (const l of lines) ul.append(el("li", {}, l));
    return ul;
  }
  function tableOf(heads, rows) {
    const box = el("div", { class: "wide" }), t = el("table");
    fill(t, heads, rows);
    box.append(t);
    return box;
  }
  function decisions() {
    const open = new Set([...document.querySelectorAll("#details details[open] summary")].map(x => x.textContent.split(":")[0])), s = now();
    $("details").textContent = "";
    topic(`Lights: ${s.used} used, ${s.dropped} left out`, tableOf(
      [["light", false], ["night", false], ["verdict", false], ["exposure", true], ["FWHM", true], ["noise", true], ["worth", true], ["weight", true], ["factor", true], ["reason", false]],
      s.frames.map(f => ({ name: f.used ? undefined : "left", cells: [f.file, f.night, `${f.used ? "used" : "left out"}${f.by_hand ? " (by hand)" : ""}`, `${f.seconds} s`, fixed(f.fwhm, 2), digits(f.noise, 3), fixed(f.worth, 2), f.used ? percent(f.weight) : "-", f.scale > 0 ? digits(f.scale, 4) : "-", f.reason] }))));
    if (D.files.length) topic(`Files: ${D.files.reduce((sum, f) => sum + f.files, 0)} in this folder, and what they were taken for`, tableOf(
      [["folder", false], ["taken for", false], ["files", true], ["by", false]],
      D.files.map(f => ({ cells: [f.folder, f.role, String(f.files), f.how] }))));
    const pairing = new Map();
    for (const f of s.frames) { const k = `${f.dark || "no dark"}; ${f.flat || "no flat"}`; pairing.set(k, (pairing.get(k) || 0) + 1); }
    topic("Calibration: what went with what", list([...pairing].map(([k, n]) => `${n} light${n === 1 ? "" : "s"}: ${k}`)), tableOf(
      [["master", false], ["frames", true], ["level", true], ["noise of a frame", true], ["its noise", true], ["combined", false]],
      D.masters.map(m => ({ cells: [m.name, String(m.frames), digits(m.level, 5), m.role === "flat" ? percent(m.frame_noise, 2) : digits(m.frame_noise, 3), m.role === "flat" ? percent(m.noise, 2) : digits(m.noise, 3), [m.combination, ...m.doubts].filter(Boolean).join("; ")] }))));
    topic(`Registration: on the grid of ${s.reference}`, list([s.reference_reason, ...s.runners_up.map(r => `next to it: ${r}`), ...s.optics].filter(Boolean)), tableOf(
      [["light", false], ["right", true], ["down", true], ["turned", true], ["residual", true]],
      s.frames.filter(f => f.used).map(f => ({ cells: [f.file, `${fixed(f.shift[0], 1)} px`, `${fixed(f.shift[1], 1)} px`, `${fixed(f.rotation, 2)} deg`, `${fixed(f.rms, 3)} px`] }))), ...D.drawings.slice(0, 12).map(src => el("img", { src, alt: "" })));
    topic("Levels, noise, weights", list(s.details), tableOf([["weights", false], ["noise", true], ["FWHM", true]],
      s.weights.map(w => ({ name: w.chosen ? "now" : undefined, cells: [w.weights, `${digits(w.noise, 4)} ADU`, known(w.fwhm) && w.fwhm > 0 ? `${fixed(w.fwhm, 2)} px` : "-"] }))));
    const most = [...s.frames].filter(f => f.used).sort((a, b) => b.low + b.high + b.trails - a.low - a.high - a.trails);
    topic(`Rejection: ${percent(s.high + s.trails, 2)} above, ${percent(s.low, 2)} below`,
      list([`star cores: ${percent(s.cores[0], 2)} rejected at first, ${percent(s.cores[1], 2)} with limits widened where that was needed; ${percent(s.cores[2], 2)} elsewhere`]),
      ...(s.trials.length ? [tableOf([["tried", false], ["efficiency lost", true], ["left above", true], ["left below", true], ["in star cores", true], ["does", false]],
        s.trials.map(t => ({ name: t.chosen ? "now" : undefined, cells: [t.method, percent(t.loss, 2), percent(t.left, 2), percent(t.left_low, 2), percent(t.cores, 2), t.text] })))] : []),
      ...(s.rejected ? [el("img", { src: s.rejected.address, class: "dark", alt: "Where samples were rejected: warm above, cold below" })] : []),
      tableOf([["light", false], ["above", true], ["below", true], ["under trails", true]], most.map(f => ({ cells: [f.file, percent(f.high, 2), percent(f.low, 2), percent(f.trails, 2)] }))));
    if (D.composites.length) topic("Made of several master lights", list(D.composites.map(c => `${c.name}: ${c.kind}, ${c.text}; noise ${digits(c.noise, 3)} ADU`)));
    for (const d of document.querySelectorAll("#details details")) d.open = open.has(d.querySelector("summary").textContent.split(":")[0]);
  }

  // ---- wiring ------------------------------------------------------------------------------------------------------------
  function choose(k) {
    if (!made.length) return;
    S.stack = (k + made.length) % made.length;
    S.second = false;
    for (const b of document.querySelectorAll("#stacks button")) b.setAttribute("aria-pressed", String(Number(b.dataset.k) === S.stack));
    table();
    picture();
    growth();
    blink();
    field();
    decisions();
  }
  function setLook(look) {
    S.look = look;
    document.documentElement.dataset.look = look;
    keep("look", look);
    const style = getComputedStyle(document.documentElement);
    C = Object.fromEntries(["keep", "drop", "hand", "mark", "line", "faint", "ink", "accent", "panel"].map(n => [n, style.getPropertyValue("--" + n).trim()]));
    if (made.length) { growth(); star(); }
  }
  document.title = `Kasane: report of ${D.folder}`;
  $("project").textContent = D.folder;
  $("foot").textContent = `Made by ${D.made_by} from the files of this project; the originals were only read.`;
  made.forEach((s, k) => {
    const b = el("button", { "data-k": k, title: s.name }, label(s));
    b.addEventListener("click", () => choose(k));
    $("stacks").append(b);
  });
  findings();
  setLook(S.look);
  if (made.length) choose(made.reduce((best, s, k) => (s.seconds > made[best].seconds ? k : best), 0));
  else { table(); for (const id of ["parts", "growth", "blink", "field", "decisions", "picture"]) $(id).hidden = true; }
  $("frame").addEventListener("click", pick);
  $("flip").addEventListener("click", flip);
  $("auto").addEventListener("click", byItself);
  $("theme").addEventListener("click", () => setLook(S.look === "night" ? "day" : "night"));
  window.addEventListener("resize", star);
  document.addEventListener("keydown", e => {
    if (e.ctrlKey || e.metaKey || e.altKey || e.target.tagName === "BUTTON" && (e.key === " " || e.key === "Enter")) return;
    const actions = { " ": flip, b: byItself, l: () => setLook(S.look === "night" ? "day" : "night"), "[": () => choose(S.stack - 1), "]": () => choose(S.stack + 1),
      ArrowRight: () => { S.pair = (S.pair + 1) % Math.max(1, pairs().length); S.second = false; blink(); }, ArrowLeft: () => { const n = Math.max(1, pairs().length); S.pair = (S.pair + n - 1) % n; S.second = false; blink(); } };
    const action = actions[e.key];
    if (!action || !made.length) return;
    e.preventDefault();
    action();
  });
  window.addEventListener("beforeprint", () => { for (const d of document.querySelectorAll("details")) d.open = true; });
  window.kasaneReport = { S, choose, star: k => { S.star = k; star(); }, pairs };
})();
