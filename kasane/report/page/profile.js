// A star's profile, as chart and in words: for the report and the review page.
"use strict";
window.Kasane = window.Kasane || {};

// Means of rings, and the fitted Moffat function at its mean width (star_json).
Kasane.profileSets = function (star, points, line) {
  const rings = star.profile.map((v, k) => ({ x: k * star.step, y: v })).filter(p => p.y !== null), fitted = [];
  if (star.fit) {
    const width = Math.sqrt(star.fit.major * star.fit.minor), root = 2 ** (1 / star.fit.beta) - 1;
    for (let r = 0; r <= star.profile.length * star.step; r += 0.1) fitted.push({ x: r, y: star.fit.level + star.fit.amplitude / (1 + root * (2 * r / width) ** 2) ** star.fit.beta });
  }
  return [{ data: rings, pointRadius: 2.5, backgroundColor: points, borderColor: points }, { data: fitted, pointRadius: 0, showLine: true, borderColor: line, borderWidth: 1.5 }];
};

Kasane.starText = function (star) {
  const shape = star.saturated ? "saturated" : star.fit
    ? `FWHM ${star.fit.major} x ${star.fit.minor} px at ${star.fit.angle} deg, eccentricity ${star.eccentricity}, Moffat exponent ${star.fit.beta}`
    : "no profile fits it: saturated, double, or at an edge";
  return `At (${star.x}, ${star.y}): flux ${star.flux} ADU, S/N ${star.snr}, peak ${star.peak} ADU, ${shape}`;
};
