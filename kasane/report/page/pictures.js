// Pictures: fetched ahead, stretched here, drawn with one zoom and place for all.
"use strict";

Kasane.Pictures = class {
  // `source` gives {url, data} of a frame's preview; `look()` what is to be shown.
  constructor(canvas, host) {
    this.canvas = canvas;
    this.host = host;
    this.cache = new Map(); // decoded bytes by address
    this.view = null;       // {x, y, zoom}: what lies in the middle of the canvas, screen pixels a frame pixel
    this.fine = new Map();  // full-size crops by frame, once the view has come to rest
    this.fineTimer = 0;
    this.bindMouse();
  }

  // Bytes of a picture: {width, height, pixels (RGBA), scale}. Kept for the last few hundred.
  // What numbers meant until now.
  forget() { this.cache.clear(); this.fine.clear(); this.view = null; }
  load(address, inline, scale) {
    let entry = this.cache.get(address);
    if (entry) { this.cache.delete(address); this.cache.set(address, entry); return entry; }
    entry = (async () => {
      let blob, own = scale;
      if (inline) blob = await (await fetch("data:image/jpeg;base64," + inline)).blob().catch(() => null);
      else {
        const response = await fetch(address);
        if (!response.ok) throw new Error("no picture");
        const header = response.headers.get("Kasane-Scale");
        if (header) own = JSON.parse(header);
        blob = await response.blob();
      }
      const bitmap = await createImageBitmap(blob);
      const canvas = new OffscreenCanvas(bitmap.width, bitmap.height), c = canvas.getContext("2d", { willReadFrequently: true });
      c.drawImage(bitmap, 0, 0);
      return { width: bitmap.width, height: bitmap.height, bytes: c.getImageData(0, 0, bitmap.width, bitmap.height).data, scale: own, shown: new Map() };
    })();
    entry.then(v => { entry.ready = v; }, () => { entry.failed = true; });
    this.cache.set(address, entry);
    while (this.cache.size > 160) this.cache.delete(this.cache.keys().next().value);
    return entry;
  }

  // Stretched for the screen: `common` is null (by itself) or {zero, soft} by plane.
  stretched(picture, common, tint) {
    const key = JSON.stringify([common, tint]);
    let canvas = picture.shown.get(key);
    if (canvas) return canvas;
    const s = picture.scale, tables = [0, 1, 2].map(p => {
      const plane = s.planes === 3 ? p : 0, table = new Uint8ClampedArray(256);
      const zero = common ? common.zero[plane] : s.zero[plane], soft = common ? common.soft[plane] : s.soft[plane];
      for (let b = 0; b < 256; ++b) {
        const value = s.zero[plane] + s.soft[plane] * Math.sinh(s.low[plane] + b / 255 * (s.high[plane] - s.low[plane]));
        const t = (Math.asinh((value - zero) / soft) + 1.2) / (Math.asinh(90) + 1.2);
        table[b] = 255 * t * (tint ? tint[p] : 1);
      }
      return table;
    });
    canvas = new OffscreenCanvas(picture.width, picture.height);
    const c = canvas.getContext("2d"), out = c.createImageData(picture.width, picture.height), from = picture.bytes, to = out.data;
    for (let i = 0; i < from.length; i += 4) {
      to[i] = tables[0][from[i]]; to[i + 1] = tables[1][from[i + 1]]; to[i + 2] = tables[2][from[i + 2]]; to[i + 3] = 255;
    }
    c.putImageData(out, 0, 0);
    if (picture.shown.size > 2) picture.shown.clear();
    picture.shown.set(key, canvas);
    return canvas;
  }

  // [a, b, c, d, e, f] from frame pixels to the shown grid: the reference's where frames are registered.
  static toGrid(frame, registered) {
    if (!registered || !frame.affine) return [1, 0, 0, 0, 1, 0];
    const [a, b, c, d, e, f] = frame.affine, det = a * e - b * d;
    return [e / det, -b / det, (b * f - c * e) / det, -d / det, a / det, (c * d - a * f) / det];
  }

  transform(c, box, frame, registered, step) {
    const ratio = window.devicePixelRatio || 1, v = this.view, z = v.zoom * ratio;
    const [a, b, tx, d, e, ty] = Kasane.Pictures.toGrid(frame, registered);
    const cx = (box.x + box.width / 2) * ratio, cy = (box.y + box.height / 2) * ratio;
    // preview pixel -> frame pixel (step, centres at halves) -> grid -> screen
    const at = 0.5 * (step - 1);
    c.setTransform(z * a * step, z * d * step, z * b * step, z * e * step,
      cx + z * (a * at + b * at + tx - v.x), cy + z * (d * at + e * at + ty - v.y));
    c.translate(-0.5, -0.5);
  }

  fit(frame, box) {
    const zoom = Math.min(box.width / frame.width, box.height / frame.height);
    this.view = { x: (frame.width - 1) / 2, y: (frame.height - 1) / 2, zoom };
    this.fitted = { ...this.view, width: box.width, height: box.height };
  }
  // The view is still the one that was fitted, but to a box of another size.
  outgrown(box) {
    const f = this.fitted, v = this.view;
    return f && f.x === v.x && f.y === v.y && f.zoom === v.zoom && (f.width !== box.width || f.height !== box.height);
  }

  size() {
    const ratio = window.devicePixelRatio || 1, r = this.canvas.getBoundingClientRect();
    const w = Math.round(r.width * ratio), h = Math.round(r.height * ratio);
    if (this.canvas.width !== w || this.canvas.height !== h) { this.canvas.width = w; this.canvas.height = h; }
    return { x: 0, y: 0, width: r.width, height: r.height };
  }

  draw() {
    const whole = this.size(), c = this.canvas.getContext("2d"), look = this.host.look();
    c.setTransform(1, 0, 0, 1, 0, 0);
    c.fillStyle = "#000";
    c.fillRect(0, 0, this.canvas.width, this.canvas.height);
    const shown = look.frames.length;
    look.frames.forEach((item, k) => {
      const box = { x: whole.width * k / shown, y: 0, width: whole.width / shown, height: whole.height };
      if (!item.frame.width) { this.say(c, box, item.frame.hindrance || "nothing to show"); return; }
      if (!this.view || (k === 0 && this.outgrown(box))) this.fit(item.frame, box);
      c.save();
      const ratio = window.devicePixelRatio || 1;
      c.beginPath();
      c.rect(box.x * ratio, 0, box.width * ratio - (k + 1 < shown ? 2 : 0), box.height * ratio);
      c.clip();
      this.drawOne(c, box, item, look);
      c.restore();
      if (shown > 1) this.say(c, { ...box, height: 34 }, item.label, true);
    });
  }

  drawOne(c, box, item, look) {
    const { frame, address, inline } = item;
    const entry = this.load(address, inline, frame.scale);
    const paint = (picture, x, y) => {
      c.imageSmoothingEnabled = this.view.zoom * picture.scale.factor < 3;
      this.transform(c, box, frame, look.registered, picture.scale.factor);
      if (x || y) c.translate(x, y);
      c.drawImage(this.stretched(picture, look.common, look.tint), 0, 0);
    };
    if (entry.ready) paint(entry.ready, 0, 0);
    else if (entry.failed) this.say(c, box, "no preview of this exposure");
    else entry.then(() => this.host.redraw(), () => this.host.redraw());
    const fine = this.fine.get(item.key + look.raw);
    if (fine) paint(fine.picture, fine.x, fine.y);
    this.overlays(c, box, item, look);
  }

  // Squares in which samples were rejected, warm above and cold below, as strong as their share.
  static rejectedImage(rejected) {
    if (rejected.image || !rejected.runs.length) return rejected.image;
    const canvas = new OffscreenCanvas(rejected.columns, rejected.rows), c = canvas.getContext("2d");
    const out = c.createImageData(rejected.columns, rejected.rows), to = out.data;
    let at = 0;
    for (const [count, low, high] of rejected.runs) {
      if (low || high) for (let i = at; i < at + count; ++i) {
        const [r, g, b] = high >= low ? [255, 150, 30] : [70, 150, 255];
        to[4 * i] = r; to[4 * i + 1] = g; to[4 * i + 2] = b;
        to[4 * i + 3] = Math.min(160, 60 + 300 * Math.max(low, high) / 255);
      }
      at += count;
    }
    c.putImageData(out, 0, 0);
    rejected.image = canvas;
    return canvas;
  }

  overlays(c, box, item, look) {
    const { frame } = item;
    const squares = look.rejected && frame.rejected && Kasane.Pictures.rejectedImage(frame.rejected);
    if (squares) {
      this.transform(c, box, frame, look.registered, frame.rejected.cell);
      c.imageSmoothingEnabled = false;
      c.drawImage(squares, 0, 0);
    } else if (look.rejected && !frame.judged) this.say(c, { ...box, y: box.y + 34, height: 34 }, "no master light was made with this exposure yet", true);
    this.transform(c, box, frame, look.registered, 1);
    c.translate(0.5, 0.5);
    c.lineWidth = 1.2 / this.view.zoom;
    const onPicture = "#ffc55c"; // seen on black in every look
    c.strokeStyle = onPicture;
    if (look.stars && item.stars) for (const [x, y, fwhm, ecc, angle, saturated] of item.stars) {
      const r = Math.max(6 / this.view.zoom, 1.6 * (fwhm || 4)), flat = Math.sqrt(1 - Math.min(0.95, ecc) ** 2);
      c.beginPath();
      if (saturated) c.rect(x - r, y - r, 2 * r, 2 * r);
      else c.ellipse(x, y, r, r * flat, -angle * Math.PI / 180, 0, 2 * Math.PI);
      c.stroke();
    }
    if (look.streaks) for (const [x0, y0, x1, y1] of frame.streaks) {
      const nx = (y1 - y0), ny = (x0 - x1), n = Math.hypot(nx, ny) || 1, d = 8 / this.view.zoom;
      c.setLineDash([8 / this.view.zoom, 5 / this.view.zoom]);
      for (const side of [-d, d]) {
        c.beginPath();
        c.moveTo(x0 + side * nx / n, y0 + side * ny / n);
        c.lineTo(x1 + side * nx / n, y1 + side * ny / n);
        c.stroke();
      }
      c.setLineDash([]);
    }
    if (item.star) {
      c.beginPath();
      c.arc(item.star.x, item.star.y, Math.max(11 / this.view.zoom, 2.5 * (item.star.fit ? item.star.fit.major : 4)), 0, 7);
      c.stroke();
    }
    if (item.comet) this.cometRings(c, item.comet);
    if (look.zones) {
      c.strokeStyle = "#8a8f99";
      c.font = `${13 / this.view.zoom}px sans-serif`;
      frame.zones.forEach(([stars, fwhm], i) => {
        const w = frame.width / 3, h = frame.height / 3, x = w * (i % 3), y = h * Math.floor(i / 3);
        c.strokeRect(x, y, w, h);
        c.save();
        c.translate(x + w / 2, y + h / 2);
        if (look.registered && frame.affine) c.rotate(-Math.atan2(frame.affine[1] * -1, frame.affine[0]));
        c.textAlign = "center";
        const words = stars ? `${fwhm.toFixed(2)} px, ${stars} stars` : "no stars", half = c.measureText(words).width / 2 + 4 / this.view.zoom;
        c.fillStyle = "rgba(0,0,0,0.65)";
        c.fillRect(-half, -13 / this.view.zoom, 2 * half, 18 / this.view.zoom);
        c.fillStyle = onPicture;
        c.fillText(words, 0, 0);
        c.restore();
      });
    }
  }

  // Rings around a comet: whole where it was pointed at, dashed where it should be by other marks.
  cometRings(c, { at, expected }) {
    const z = this.view.zoom;
    c.strokeStyle = "#9fe3c0";
    c.lineWidth = 1.6 / z;
    if (expected) {
      c.setLineDash([5 / z, 4 / z]);
      c.beginPath();
      c.arc(expected[0], expected[1], 20 / z, 0, 7);
      c.stroke();
      c.setLineDash([]);
    }
    if (!at) return;
    c.beginPath();
    c.arc(at[0], at[1], 13 / z, 0, 7);
    for (const [dx, dy] of [[1, 0], [-1, 0], [0, 1], [0, -1]]) {
      c.moveTo(at[0] + 7 * dx / z, at[1] + 7 * dy / z);
      c.lineTo(at[0] + 19 * dx / z, at[1] + 19 * dy / z);
    }
    c.stroke();
  }

  say(c, box, text, plate) {
    const ratio = window.devicePixelRatio || 1;
    c.setTransform(ratio, 0, 0, ratio, 0, 0);
    c.font = "13px sans-serif";
    c.textAlign = "center";
    if (plate) { c.fillStyle = "rgba(0,0,0,0.6)"; c.fillRect(box.x, box.y + 4, box.width, 22); }
    c.fillStyle = "#e8d9c8";
    c.fillText(text, box.x + box.width / 2, box.y + (plate ? 20 : box.height / 2), box.width - 12);
  }

  // Asks for the visible part of each shown frame at full size where the preview is coarser than the screen.
  sharpen() {
    clearTimeout(this.fineTimer);
    this.fineTimer = setTimeout(async () => {
      const look = this.host.look();
      if (!look.live || !this.view) return;
      const fresh = new Map();
      await Promise.all(look.frames.map(async item => {
        const found = await this.crop(item, look);
        if (found) fresh.set(item.key + look.raw, found);
      }));
      this.fine = fresh;
      this.host.redraw();
    }, 220);
  }
  async crop(item, look) {
    if (!item.frame.scale || this.view.zoom * item.frame.scale.factor < 1.3 || item.frame.scale.factor === 1) return null;
    const r = this.canvas.getBoundingClientRect(), [a, b, tx, d, e, ty] = Kasane.Pictures.toGrid(item.frame, look.registered);
    const det = a * e - b * d, gx = this.view.x - tx, gy = this.view.y - ty;
    const cx = (e * gx - b * gy) / det, cy = (a * gy - d * gx) / det, reach = 0.5 * Math.hypot(r.width / look.frames.length, r.height) / this.view.zoom;
    const half = Math.min(990, Math.ceil(reach));
    const x = Math.max(0, Math.floor(cx - half)), y = Math.max(0, Math.floor(cy - half));
    const w = Math.min(item.frame.width - x, 2 * half), h = Math.min(item.frame.height - y, 2 * half);
    if (w < 8 || h < 8) return null;
    const entry = this.load(`picture/${item.key}?x=${x}&y=${y}&w=${w}&h=${h}&raw=${look.raw ? 1 : 0}`, null, item.frame.scale);
    const picture = await entry.catch(() => null);
    return picture && { picture, x, y };
  }

  // A pixel of the shown grid in the middle, at one to one.
  lookAt(x, y) {
    this.view = { x, y, zoom: 1 };
    this.moved();
  }

  zoomBy(factor, px, py) {
    if (!this.view) return;
    const r = this.canvas.getBoundingClientRect(), v = this.view;
    const dx = (px === undefined ? 0 : px - r.left - r.width / 2), dy = (py === undefined ? 0 : py - r.top - r.height / 2);
    const zoom = Math.min(32, Math.max(0.03, v.zoom * factor));
    v.x += dx / v.zoom - dx / zoom;
    v.y += dy / v.zoom - dy / zoom;
    v.zoom = zoom;
    this.moved();
  }
  panBy(dx, dy) {
    if (!this.view) return;
    this.view.x -= dx / this.view.zoom;
    this.view.y -= dy / this.view.zoom;
    this.moved();
  }
  moved() { this.host.redraw(); this.sharpen(); }

  // Where on which of the shown frames the pointer is: {shown, x, y}, pixels of the frame; nothing beside them.
  place(e) {
    const look = this.host.look(), r = this.canvas.getBoundingClientRect(), width = r.width / look.frames.length;
    const shown = Math.min(look.frames.length - 1, Math.max(0, Math.floor((e.clientX - r.left) / width))), frame = look.frames[shown].frame;
    if (!this.view || !frame.width) return null;
    const [a, b, tx, d, ee, ty] = Kasane.Pictures.toGrid(frame, look.registered), det = a * ee - b * d, v = this.view;
    const gx = v.x + (e.clientX - r.left - (shown + 0.5) * width) / v.zoom - tx, gy = v.y + (e.clientY - r.top - r.height / 2) / v.zoom - ty;
    const x = (ee * gx - b * gy) / det, y = (a * gy - d * gx) / det;
    return x >= -0.5 && y >= -0.5 && x <= frame.width - 0.5 && y <= frame.height - 0.5 ? { shown, x, y } : null;
  }

  bindMouse() {
    let last = null, begun = null;
    this.canvas.addEventListener("wheel", e => { e.preventDefault(); this.zoomBy(e.deltaY < 0 ? 1.25 : 0.8, e.clientX, e.clientY); }, { passive: false });
    this.canvas.addEventListener("pointerdown", e => { last = begun = [e.clientX, e.clientY]; this.canvas.setPointerCapture(e.pointerId); });
    this.canvas.addEventListener("pointermove", e => {
      if (!last) return;
      this.panBy(e.clientX - last[0], e.clientY - last[1]);
      last = [e.clientX, e.clientY];
    });
    this.canvas.addEventListener("pointerup", e => {
      const still = last && Math.hypot(e.clientX - begun[0], e.clientY - begun[1]) < 4; // screen pixels
      last = null;
      const at = still && this.host.clicked && this.place(e);
      if (at) this.host.clicked(at);
    });
    this.canvas.addEventListener("dblclick", () => { this.view = null; if (this.host.clickedTwice) this.host.clickedTwice(); this.moved(); });
  }
};
