// How the time of a run grows with its frames and with their pixels.
#include "rows.hpp"
#include "simulated.hpp"

#include <kasane/project/run.hpp>

#include <algorithm>
#include <array>
#include <filesystem>
#include <fmt/format.h>
#include <stdexcept>

namespace kasane::bench {

namespace {

namespace fs = std::filesystem;

/// Lights alone, `megapixels` large.
void write_lights(const fs::path& folder, int lights, int megapixels, const Context& context) {
    sky::PlainOptions o;
    o.height = static_cast<int>(std::lround(std::sqrt(megapixels * 1e6 / 1.5) / 2)) * 2;
    o.width = o.height * 3 / 2;
    o.lights = lights;
    o.calibration = 0;
    o.stars = o.width * o.height / 8000;
    o.extended_step = 4;
    o.rotation = 0.15;
    o.flip = true;
    o.dither = 15;
    fmt::print("writing {} lights of {} x {} pixels ...\n", lights, o.width, o.height);
    std::fflush(stdout);
    sky::write_scenario(sky::plain_scenario(o), folder, context);
}

/// Seconds that a first run takes, the files in memory: the lesser of two.
double run_time(const fs::path& folder, const Context& context) {
    double best = 1e30;
    for (int i = 0; i < 2; ++i) {
        fs::remove_all(folder / "kasane");
        fs::remove_all(folder / ".kasane");
        best = std::min(best, seconds_of([&] {
                            const RunReport report = run_project({folder, {}, {}}, context);
                            if (report.stacks.empty() || report.stacks.front().file.empty())
                                throw std::runtime_error("nothing was made");
                        }));
    }
    fmt::print("{}: {:.2f} s\n", folder.filename().string(), best);
    std::fflush(stdout);
    return best;
}

/// A project of the first lights of another.
void take_some(const fs::path& from, const fs::path& to, int count) {
    std::vector<fs::path> files;
    for (const auto& entry : fs::recursive_directory_iterator(from))
        if (entry.path().extension() == ".fits") files.push_back(entry.path());
    if (files.empty()) throw std::runtime_error("there are no lights to take");
    std::sort(files.begin(), files.end());
    fs::create_directories(to);
    // From all of the nights, so that they are like the whole.
    for (int k = 0; k < count; ++k) {
        const fs::path& file = files[static_cast<std::size_t>(k) * files.size() / static_cast<std::size_t>(count)];
        const fs::path there = to / file.lexically_relative(from);
        fs::create_directories(there.parent_path());
        fs::create_hard_link(file, there);
    }
}

struct Timed {
    double size, seconds;
};

/// How far the middle one lies off the straight line through the two others, as a factor above 1.
double off_the_line(const std::array<Timed, 3>& t) {
    const double slope = (t[2].seconds - t[0].seconds) / (t[2].size - t[0].size);
    const double ratio = t[1].seconds / (t[0].seconds + slope * (t[1].size - t[0].size));
    return std::max(ratio, 1 / ratio);
}

std::string told(const std::array<Timed, 3>& t) {
    return fmt::format("{:.1f}, {:.1f} and {:.1f} s", t[0].seconds, t[1].seconds, t[2].seconds);
}

} // namespace

std::vector<Row> scaling(const Context& context) {
    std::vector<Row> rows;
    const TemporaryFolder folder;
    std::array<Timed, 3> by_frames{{{24, 0}, {100, 0}, {400, 0}}};
    const fs::path all = folder.path() / "400 of 6 MP";
    write_lights(all, 400, 6, context);
    for (Timed& t : by_frames) {
        const auto count = static_cast<int>(t.size);
        const fs::path some = folder.path() / fmt::format("{} frames", count);
        take_some(all, some, count);
        t.seconds = run_time(some, context);
        fs::remove_all(some);
    }
    fs::remove_all(all);
    rows.push_back({"P9",
                    fmt::format("run on 24, 100 and 400 lights of 6 MP ({}): off a straight line", told(by_frames)),
                    off_the_line(by_frames), "x", 1.1, false});
    std::array<Timed, 3> by_pixels{{{6, 0}, {24, 0}, {60, 0}}};
    for (Timed& t : by_pixels) {
        const fs::path here = folder.path() / fmt::format("{} MP", t.size);
        write_lights(here, 12, static_cast<int>(t.size), context);
        t.seconds = run_time(here, context);
        fs::remove_all(here);
    }
    rows.push_back({"P9", fmt::format("run on 12 lights of 6, 24 and 60 MP ({}): off a straight line", told(by_pixels)),
                    off_the_line(by_pixels), "x", 1.1, false});
    return rows;
}

} // namespace kasane::bench
