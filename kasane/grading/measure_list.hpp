// All measures: the one place where a measure is defined. Its computation stands in figures.cpp (of one exposure alone)
// or in stages/grade.cpp (against the others of its stack), its line in docs/grading.md; everything else (limits,
// tables, CSV, JSON, the page) goes by this list.
//
//   X(name, unit, digits, better, meaning, cause)
//
//   name     as limits, tables and JSON write it
//   unit     empty for plain numbers
//   digits   after the point, in tables
//   better   1: more is better, -1: less is, 0: neither
//   meaning  in a line
//   cause    what is usually behind a bad value; may be empty
#pragma once

// clang-format off
#define KASANE_MEASURES(X) \
    X(stars, "", 0, 1, "stars above the threshold", "cloud, dew or focus") \
    X(fwhm, "px", 2, -1, "full width of the stars at half their height", "focus, seeing or wind") \
    X(fwhm_arcsec, "arcsec", 2, -1, "the same in the sky, where the scale is known", "focus, seeing or wind") \
    X(eccentricity, "", 2, -1, "elongation of the stars, 0 round", "wind, guiding or a knock") \
    X(angle, "deg", 0, 0, "direction in which they are elongated, counter-clockwise as displayed", "") \
    X(background, "ADU", 1, -1, "median level of the sky after calibration", "twilight, the moon or lit cloud") \
    X(sky, "ADU/s", 3, -1, "the same a second", "twilight, the moon or lit cloud") \
    X(gradient, "ADU", 1, -1, "slope of the sky from edge to edge", "twilight, the moon or lit cloud") \
    X(noise, "ADU", 2, -1, "of a background pixel", "") \
    X(transparency, "", 3, 1, "light of the stars, a second, over the stack's best exposure", "cloud or haze") \
    X(snr, "", 1, 1, "signal to noise of the stack's typical star", "") \
    X(worth, "", 3, 1, "(signal / noise)^2 for equal seconds over the stack's best exposure", "") \
    X(obstructed, "", 2, -1, "share of the field without the stars that should be there", "a roof, a tree or the edge of a cloud") \
    X(saturated, "ppm", 0, -1, "saturated pixels in a million", "exposed for too long, or light from outside") \
    X(streaks, "", 0, 0, "trails across the frame", "") \
    X(tilt, "", 2, -1, "change of the stars' width across the field, relative", "tilt, focus or spacing") \
    X(curvature, "", 2, -1, "excess of the stars' width in the corners, relative", "tilt, focus or spacing") \
    X(dx, "px", 1, 0, "shift against the reference to the right", "") \
    X(dy, "px", 1, 0, "shift against the reference downwards", "") \
    X(rotation, "deg", 2, 0, "turn against the reference", "") \
    X(seconds, "s", 0, 0, "exposure time", "")
// clang-format on
