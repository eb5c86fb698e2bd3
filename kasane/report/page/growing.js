// While a night goes on: how the master lights grow, and lights that came since the page was loaded.
"use strict";

window.Kasane = window.Kasane || {};

// `page` has: filter() of the stack that is shown, changed() whether something is not saved, say(), fresher(data, whole),
// axis(name), options: of its charts, colours().
Kasane.Growing = class {
  constructor(page) {
    this.page = page;
    this.state = null;
    this.chart = null;
    this.box = document.getElementById("growing");
    this.picture = document.createElement("img");
    document.getElementById("growingpicture").append(this.picture);
    document.querySelector("[data-tab=growing]").hidden = false;
    document.getElementById("newest").addEventListener("click", () => this.showNewest());
    this.ask();
    this.timer = setInterval(() => this.ask(), 3000);
  }

  async ask() {
    try {
      const answer = await fetch("growing.json");
      if (!answer.ok) throw new Error();
      this.state = await answer.json();
      this.gone = false;
    } catch {
      if (!this.gone) this.page.say("The watch has ended: nothing new is shown any more");
      this.gone = true;
      clearInterval(this.timer);
      return;
    }
    const more = this.state.lights - this.state.shown, button = document.getElementById("newest");
    button.hidden = !this.state.newer;
    button.textContent = more > 0 ? `${more} new light${more === 1 ? "" : "s"}` : "Lights have changed";
    if (!this.box.hidden) this.draw();
  }

  async showNewest() {
    if (this.page.changed()) { this.page.say("Accept or discard what is not saved first"); return; }
    try {
      const answer = await fetch("newest", { method: "POST" }), data = await answer.json();
      if (data.error) throw new Error(data.error);
      this.page.fresher(data);
      await this.ask();
    } catch (e) { this.page.say(String(e.message || e)); }
  }

  draw() {
    if (!this.state) return;
    const k = this.state.masters.findIndex(m => m.stack === this.page.stack());
    const m = this.state.masters[k], text = document.getElementById("growingtext"), picture = this.picture;
    if (!m) { text.textContent = "Nothing of this stack yet."; picture.hidden = true; return; }
    const noise = v => (v === null ? "not known" : v.toPrecision(3) + " ADU");
    text.textContent = `${m.kept} kept, ${m.dropped} dropped; ${Kasane.duration(m.seconds)}, effective ${Kasane.duration(m.effective_seconds)}. Noise ${noise(m.noise)}; after another hour ${noise(m.noise_in_an_hour)}.`;
    const address = `growing/${k}?version=${m.version}`;
    picture.hidden = m.shown === 0;
    if (m.shown && picture.getAttribute("src") !== address) picture.setAttribute("src", address);
    picture.alt = `The mean of ${m.shown} lights of ${m.stack}, so far`;
    const points = m.growth.map(([seconds, n]) => ({ x: seconds / 60, y: n })), signature = m.stack + JSON.stringify(points.slice(-1)) + points.length;
    if (this.drawn === signature && this.chart) return;
    this.drawn = signature;
    if (this.chart) this.chart.destroy();
    const colours = this.page.colours();
    this.chart = new Chart(document.getElementById("growingcurve"), {
      type: "scatter",
      data: { datasets: [{ data: points, showLine: true, borderColor: colours.accent, backgroundColor: colours.accent, borderWidth: 1.5, pointRadius: points.length > 60 ? 0 : 2 }] },
      options: { ...this.page.options, scales: { x: this.page.axis("minutes kept"), y: this.page.axis("noise, ADU") } },
    });
  }
};
