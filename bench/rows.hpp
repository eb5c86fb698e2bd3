// A line of the table that kasane-bench prints.
#pragma once

#include <kasane/base/parallel.hpp>

#include <string>
#include <vector>

namespace kasane::bench {

struct Row {
    std::string number, what;
    double value;
    std::string unit;
    double goal;
    bool at_least;
};

/// Gathering: first scan, rescan and check of many small files, and plainly opening and reading the first header block
/// of the same files.
std::vector<Row> gathering(int files, const Context& context);

/// Masters of `count` frames over a plain streaming mean of the same files.
std::vector<Row> master_building(int count, int width, int height, const Context& context);

/// Registration of star lists: one frame, a frame of another field, the lens of a thousand frames.
std::vector<Row> registration(const Context& context);

/// Grading that many small lights up to a page that can be used, first and again.
std::vector<Row> grading(int lights, const Context& context);

/// The time of a run against its frames (24 to 400) and against their pixels (6 to 60 megapixels): how far off a
/// straight line.
std::vector<Row> scaling(const Context& context);

/// A whole run on that many lights and half as many darks, flats and bias each, over reading the files once; from the
/// cache of the system, and from the disk.
std::vector<Row> whole_run(int lights, int width, int height, const Context& context);

} // namespace kasane::bench
