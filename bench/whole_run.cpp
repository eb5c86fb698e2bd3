// A whole run on a bare folder against the least that must be done: reading every file once.
#include "rows.hpp"
#include "simulated.hpp"

#include <kasane/io/fits.hpp>
#include <kasane/project/result.hpp>
#include <kasane/project/run.hpp>
#include <kasane/report/run_page.hpp>

#include <algorithm>
#include <fcntl.h>
#include <fmt/format.h>
#include <fstream>
#include <stdexcept>
#include <unistd.h>

namespace kasane::bench {

namespace {

namespace fs = std::filesystem;

template <class F>
void for_each_exposure(const fs::path& folder, F f) {
    for (const auto& entry : fs::recursive_directory_iterator(folder))
        if (entry.path().extension() == ".fits") f(entry.path());
}

/// All pixels to floats, one file after another on one thread, into the same memory.
void read_all(const fs::path& folder) {
    std::vector<float> pixels;
    for_each_exposure(folder, [&](const fs::path& file) {
        const auto reader = open_fits(file);
        const int w = reader->width(), h = reader->height();
        pixels.resize(static_cast<std::size_t>(w) * static_cast<std::size_t>(h));
        reader->read(reader->bounds(), {pixels.data(), w, h, w});
    });
}

/// All of them reach the disk, where a user's have long been: nothing is written beside what is measured.
void settle_on_disk(const fs::path& folder) {
    for_each_exposure(folder, [](const fs::path& file) {
        const int descriptor = ::open(file.c_str(), O_RDONLY | O_CLOEXEC);
        ::fdatasync(descriptor);
        ::close(descriptor);
    });
}

/// What the system keeps of the files goes, so that the next reading is from the disk.
void drop_from_cache(const fs::path& folder) {
    settle_on_disk(folder);
    for_each_exposure(folder, [](const fs::path& file) {
        const int descriptor = ::open(file.c_str(), O_RDONLY | O_CLOEXEC);
        ::posix_fadvise(descriptor, 0, 0, POSIX_FADV_DONTNEED);
        ::close(descriptor);
    });
}

/// As the command does it: results, reports and the page.
void run_all(const fs::path& folder, const Context& context) {
    const RunOptions options{folder, {}, {}};
    RunReport report = run_project(options, context);
    if (report.stacks.empty() || report.stacks.front().file.empty()) throw std::runtime_error("nothing was made");
    write_run_page(look_at_result(options, std::move(report), context));
}

void forget_all(const fs::path& folder) {
    fs::remove_all(folder / "kasane");
    fs::remove_all(folder / ".kasane");
}

} // namespace

std::vector<Row> whole_run(int lights, int width, int height, const Context& context) {
    sky::PlainOptions o;
    o.width = width;
    o.height = height;
    o.lights = lights;
    o.calibration = std::max(1, lights / 2);
    o.stars = width * height / 8000;
    o.extended_step = 4;
    o.rotation = 0.15;
    o.flip = true;
    o.dither = 15;
    const TemporaryFolder folder;
    fmt::print("writing {} lights and {} calibration frames of {} x {} pixels ...\n", lights, 3 * o.calibration, width,
               height);
    std::fflush(stdout);
    sky::write_scenario(sky::plain_scenario(o), folder.path(), context);
    settle_on_disk(folder.path());
    read_all(folder.path()); // warms the cache of the system
    double plain = 1e30, run = 1e30;
    for (int i = 0; i < 3; ++i) { // the best of them: the machine may be others' as well
        forget_all(folder.path());
        plain = std::min(plain, seconds_of([&] { read_all(folder.path()); }));
        run = std::min(run, seconds_of([&] { run_all(folder.path(), context); }));
    }
    std::vector<Row> rows;
    rows.push_back({"P10",
                    fmt::format("run on a bare folder of {} lights and {} calibration frames of {} MP ({:.1f} s) over "
                                "reading all its files once",
                                lights, 3 * o.calibration, width * height / 1000000, run),
                    run / plain, "x", 10, false});
    forget_all(folder.path());
    drop_from_cache(folder.path());
    const double cold = seconds_of([&] { read_all(folder.path()); });
    drop_from_cache(folder.path());
    const double cold_run = seconds_of([&] { run_all(folder.path(), context); });
    rows.push_back({"P10", fmt::format("the same from the disk ({:.1f} s), over reading them from it", cold_run),
                    cold_run / cold, "x", 10, false});
    return rows;
}

} // namespace kasane::bench
