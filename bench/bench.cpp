// kasane-bench: how fast, as ratios between things done to the same files in the same run, and within how much memory.
//
//   kasane-bench [--frames N] [--width W] [--height H] [--budget MIB] [--json FILE] [--only-gather FILES] [Google
//   Benchmark options]
#include "general_chain.hpp"
#include "rows.hpp"
#include "simulated.hpp"

#include <kasane/calibration/master.hpp>
#include <kasane/calibration/master_frame.hpp>
#include <kasane/grading/measures.hpp>
#include <kasane/image/statistics.hpp>
#include <kasane/integration/drizzle.hpp>
#include <kasane/integration/integrate.hpp>
#include <kasane/io/fits.hpp>
#include <kasane/project/run.hpp>

#include <benchmark/benchmark.h>
#include <cstring>
#include <fmt/format.h>
#include <fstream>
#include <map>
#include <nlohmann/json.hpp>

namespace fs = std::filesystem;

namespace {

using namespace kasane;
using namespace kasane::bench;

struct Settings {
    int frames = 48, width = 6000, height = 4000;
    std::uint64_t budget_mib = 700;
    std::string json;
    int gather = 10000; ///< files
    bool only_gather = false;
    bool registration = false; ///< only that of star lists is measured
    bool scaling = false;      ///< only how the time of a run grows
    int grading = 0;           ///< lights: only grading is measured
    int masters = 0;           ///< frames: only their building is measured
    int whole = 0;             ///< lights: only a whole run is measured
};

/// Keeps the middle one of the times of each benchmark.
class Collector : public benchmark::ConsoleReporter {
public:
    Collector() : ConsoleReporter(OO_None) {}
    void ReportRuns(const std::vector<Run>& runs) override {
        for (const Run& r : runs) {
            if (r.run_type != Run::RT_Iteration) continue;
            std::vector<double>& all = times_[r.run_name.function_name];
            all.push_back(r.GetAdjustedRealTime());
            std::sort(all.begin(), all.end());
            seconds[r.run_name.function_name] = 0.5 * (all[(all.size() - 1) / 2] + all[all.size() / 2]);
        }
        ConsoleReporter::ReportRuns(runs);
    }
    std::map<std::string, double> seconds;

private:
    std::map<std::string, std::vector<double>> times_;
};

/// The large set: mono 16-bit lights with masters, written once.
struct Data {
    sky::Scenario scenario;
    TemporaryFolder folder;
    std::vector<std::shared_ptr<const FrameView>> views;
    std::vector<StackFrame> frames;

    Data(const Settings& s, const Context& context) {
        sky::PlainOptions o;
        o.width = s.width;
        o.height = s.height;
        o.lights = s.frames;
        o.calibration = 4;
        o.stars = s.width * s.height / 8000;
        o.extended_step = 4;
        o.rotation = 0.15; // a guided night, framed again after the meridian
        o.flip = true;
        o.dither = 15;
        scenario = sky::plain_scenario(o);
        sky::write_scenario(scenario, folder.path(), context);
        CalibrationSet set;
        set.dark = master(Role::dark, sky::Shot::Role::dark, nullptr, context);
        set.flat = master(Role::flat, sky::Shot::Role::flat, nullptr, context);
        set.defects = std::make_shared<const DefectList>(find_defects(set.dark.get(), 3.2, set.flat.get()));
        const auto lights = lights_of(scenario);
        const Affine to_scene = true_transform(scenario, *lights.front()).inverse();
        for (const sky::Shot* light : lights) {
            views.push_back(std::make_shared<const FrameView>(
                std::make_shared<const CalibratedView>(open_fits(folder.path() / light->path), set)));
            frames.push_back({views.back(),
                              {{true_transform(scenario, *light).after(to_scene), {}, 28.0}},
                              scenario.instrument.gain});
        }
    }

private:
    std::shared_ptr<const FrameReader> master(Role role, sky::Shot::Role shots, const FrameReader* offset,
                                              const Context& context) const {
        std::vector<std::shared_ptr<const FrameReader>> frames_of_role;
        for (const sky::Shot& s : scenario.shots)
            if (s.role == shots) frames_of_role.push_back(open_fits(folder.path() / s.path));
        const fs::path file = folder.path() / fmt::format("master-{}.fits", role_name(role));
        write_fits(file, {{build_master(role, frames_of_role, offset, context).pixels.plane(), {}}});
        return open_fits(file);
    }
};

/// What dark and flat do, made once for all lights of one sensor: as a run does it.
std::vector<StackFrame> with_masters_made(std::vector<StackFrame> frames, const Context& context) {
    std::shared_ptr<const MasterFrame> made;
    for (StackFrame& f : frames) {
        const auto& view = dynamic_cast<const FrameView&>(*f.source);
        CalibrationSet set = view.source().calibration();
        if (!made) made = std::make_shared<const MasterFrame>(set, view.source().raw(), &context.workers);
        set.prepared = made;
        f.source = std::make_shared<const FrameView>(
            std::make_shared<const CalibratedView>(view.source().shared_raw(), std::move(set)), view.method());
    }
    return frames;
}

/// A mean that keeps its sums in cache: chunk by chunk, of all frames, on all threads. What reading costs at least.
void streaming_mean(const std::vector<StackFrame>& frames, int width, int height, const Workers& workers) {
    Image mean(width, height);
    const int rows = std::max(1, 16384 / width); // 64 KiB of sums
    workers.for_each(static_cast<std::size_t>((height + rows - 1) / rows), [&](std::size_t chunk) {
        const int y = static_cast<int>(chunk) * rows;
        const Region r{0, y, width, std::min(rows, height - y)};
        Image one(r.width, r.height);
        float* to = mean.plane().row(r.y);
        for (const StackFrame& f : frames) {
            dynamic_cast<const FrameView&>(*f.source).source().raw().read(r, one.plane());
            const float* from = one.pixels().data();
            for (std::int64_t i = 0; i < r.area(); ++i)
                to[i] += from[i];
        }
        for (std::int64_t i = 0; i < r.area(); ++i)
            to[i] /= static_cast<float>(frames.size());
    });
    benchmark::DoNotOptimize(mean.pixels().data());
}

/// Peak resident size while `work` runs, MiB.
template <class Work>
double peak_memory(Work work) {
    std::ofstream("/proc/self/clear_refs") << "5"; // begins a new peak
    work();
    return static_cast<double>(peak_resident_memory()) / 1048576.0;
}

void print(const std::vector<Row>& rows, const std::string& json_file) {
    nlohmann::json all = nlohmann::json::array();
    fmt::print("\n| # | what | measured | goal |\n|---|---|---|---|\n");
    for (const Row& r : rows) {
        fmt::print("| {} | {} | {:.3g} {} | {} {:g} {} |\n", r.number, r.what, r.value, r.unit,
                   r.at_least ? ">=" : "<=", r.goal, r.unit);
        all.push_back({{"number", r.number},
                       {"what", r.what},
                       {"value", r.value},
                       {"unit", r.unit},
                       {"goal", r.goal},
                       {"at_least", r.at_least}});
    }
    if (!json_file.empty()) std::ofstream(json_file) << all.dump(1) << "\n";
}

} // namespace

int main(int argc, char** argv) {
    Settings settings;
    std::vector<char*> rest = {argv[0]};
    for (int i = 1; i < argc; ++i) {
        const auto value = [&](const char* name) {
            return !std::strcmp(argv[i], name) && i + 1 < argc ? argv[++i] : nullptr;
        };
        if (const char* v = value("--frames"))
            settings.frames = std::stoi(v);
        else if (const char* w = value("--width"))
            settings.width = std::stoi(w);
        else if (const char* h = value("--height"))
            settings.height = std::stoi(h);
        else if (const char* b = value("--budget"))
            settings.budget_mib = std::stoull(b);
        else if (const char* g = value("--only-gather")) {
            settings.gather = std::stoi(g);
            settings.only_gather = true;
        } else if (!std::strcmp(argv[i], "--only-registration")) {
            settings.registration = true;
        } else if (const char* n = value("--only-grading")) {
            settings.grading = std::stoi(n);
        } else if (const char* m = value("--only-masters")) {
            settings.masters = std::stoi(m);
        } else if (!std::strcmp(argv[i], "--only-scaling")) {
            settings.scaling = true;
        } else if (const char* l = value("--only-whole")) {
            settings.whole = std::stoi(l);
        } else if (const char* j = value("--json"))
            settings.json = j;
        else
            rest.push_back(argv[i]);
    }
    // By turns, so that what compares two of them does not compare two moods of the machine.
    std::string by_turns = "--benchmark_enable_random_interleaving=true";
    rest.insert(rest.begin() + 1, by_turns.data());
    int count = static_cast<int>(rest.size());
    benchmark::Initialize(&count, rest.data());

    const Workers two, one(1);
    Progress silent;
    const MemoryBudget plenty = default_budget(), tight{settings.budget_mib << 20};
    const Context context{two, plenty, silent}, single{one, plenty, silent}, bounded{two, tight, silent};
    if (settings.only_gather) {
        print(gathering(settings.gather, context), settings.json);
        return 0;
    }
    if (settings.registration) {
        print(registration(context), settings.json);
        return 0;
    }
    if (settings.grading > 0) {
        print(grading(settings.grading, context), settings.json);
        return 0;
    }
    if (settings.masters > 0) {
        print(master_building(settings.masters, settings.width, settings.height, context), settings.json);
        return 0;
    }
    if (settings.scaling) {
        print(scaling(context), settings.json);
        return 0;
    }
    if (settings.whole > 0) {
        print(whole_run(settings.whole, settings.width, settings.height, context), settings.json);
        return 0;
    }
    fmt::print("writing {} lights of {} x {} pixels ...\n", settings.frames, settings.width, settings.height);
    std::fflush(stdout);
    const Data data(settings, context);
    const int w = settings.width, h = settings.height;

    std::vector<Row> rows;
    // Memory first: what earlier work leaves in the allocator would count against it.
    const double integrate_peak = peak_memory([&] { integrate(data.frames, {w, h}, {1000}, bounded); });
    rows.push_back({"P4",
                    fmt::format("integrate {} frames: peak resident size over a budget of {} MiB", settings.frames,
                                settings.budget_mib),
                    integrate_peak / static_cast<double>(settings.budget_mib), "x", 1.1, false});

    const auto run = [](const char* name, auto work, int repeats) {
        benchmark::RegisterBenchmark(name,
                                     [work](benchmark::State& state) {
                                         for ([[maybe_unused]] auto unused : state)
                                             work();
                                     })
            ->Unit(benchmark::kMillisecond)
            ->Iterations(1)
            ->Repetitions(repeats)
            ->ReportAggregatesOnly(false)
            ->UseRealTime();
    };
    run(
        "streaming_mean", [&] { streaming_mean(data.frames, w, h, two); }, 9);
    run(
        "integrate",
        [&] {
            integrate(with_masters_made(data.frames, context), {w, h}, {1000}, context);
        },
        3);
    const std::vector<StackFrame> few(
        data.frames.begin(),
        data.frames.begin() + std::min<std::ptrdiff_t>(12, static_cast<std::ptrdiff_t>(data.frames.size())));
    run(
        "integrate_12_one_thread",
        [&] {
            integrate(with_masters_made(few, single), {w, h}, {1000}, single);
        },
        3);
    run(
        "integrate_12_two_threads",
        [&] {
            integrate(with_masters_made(few, context), {w, h}, {1000}, context);
        },
        5);
#ifdef KASANE_GENERAL_CHAIN
    run(
        "integrate_12_by_a_general_chain", [&] { benchmark::DoNotOptimize(general_chain(few, w, h)); }, 1);
#endif
    // Each frame's map with a lens before and behind it: not what these frames are, but as much to compute.
    const auto lens =
        std::make_shared<const Lens>(Lens{{0.5 * w, 0.5 * h}, 0.5 * std::hypot(w, h), {0.01, 0, 0}, {0, 0}});
    std::vector<StackFrame> through_lens = few;
    for (StackFrame& f : through_lens)
        for (StackPlane& p : f.planes)
            p.to_frame = Transform(p.to_frame.projective(), lens, lens);
    run(
        "integrate_12_through_a_lens",
        [&] {
            integrate(with_masters_made(through_lens, context), {w, h}, {1000}, context);
        },
        5);
    // A square that the frames show whole however they are turned.
    const int side = static_cast<int>(0.68 * std::min(w, h));
    const auto turned_by = [&](double degrees) {
        const double c = std::cos(degrees * M_PI / 180), s = std::sin(degrees * M_PI / 180), half = 0.5 * (side - 1);
        std::vector<StackFrame> out = few;
        for (StackFrame& f : out)
            for (StackPlane& p : f.planes)
                p.to_frame = p.to_frame.after(
                    {c, -s, 0.5 * (w - 1) - c * half + s * half, s, c, 0.5 * (h - 1) - s * half - c * half});
        return out;
    };
    const std::vector<StackFrame> square = turned_by(0), turned = turned_by(37);
    run(
        "integrate_12_of_a_square",
        [&] {
            integrate(with_masters_made(square, context), {side, side}, {1000}, context);
        },
        5);
    run(
        "integrate_12_turned",
        [&] {
            integrate(with_masters_made(turned, context), {side, side}, {1000}, context);
        },
        5);
    // The same pixels as those of a colour sensor: three planes from each.
    std::vector<StackFrame> colour = few;
    for (StackFrame& f : colour) {
        const CalibratedView& source = dynamic_cast<const FrameView&>(*f.source).source();
        CalibrationSet set = source.calibration();
        set.cfa = CfaPattern("RGGB");
        f.source = std::make_shared<const FrameView>(
            std::make_shared<const CalibratedView>(source.shared_raw(), std::move(set)), ColourMethod::adaptive);
        f.planes = {f.planes[0], f.planes[0], f.planes[0]};
    }
    run(
        "integrate_12_of_a_colour_sensor",
        [&] {
            integrate(with_masters_made(colour, context), {w, h}, {1000, 1000, 1000}, context);
        },
        3);
    run(
        "measure_a_mosaic",
        [&] {
            benchmark::DoNotOptimize(measure_exposure(dynamic_cast<const FrameView&>(*colour.front().source),
                                                      {.detect = {.electrons_per_adu = 0.8}})
                                         .main()
                                         .stars.size());
        },
        3);
    run(
        "drizzle_12_two_threads",
        [&] {
            DrizzleOptions options;
            options.restore = true;
            drizzle(with_masters_made(few, context), reference_canvas(w, h), {1000}, context, {}, options);
        },
        3);
    run(
        "read_and_copy",
        [&] {
            std::vector<float> pixels(static_cast<std::size_t>(w) * static_cast<std::size_t>(h)); // plain memory
            data.views.front()->source().raw().read({0, 0, w, h}, {pixels.data(), w, h, w});
            std::vector<float> copy = pixels;
            benchmark::DoNotOptimize(copy.data());
        },
        5);
    run(
        "measure",
        [&] {
            benchmark::DoNotOptimize(
                measure_exposure(*data.views.front(), {.detect = {.electrons_per_adu = 0.8}}).main().stars.size());
        },
        3);
    Collector collector;
    benchmark::RunSpecifiedBenchmarks(&collector);
    auto& t = collector.seconds;
    if (t.contains("integrate") && t.contains("streaming_mean"))
        rows.push_back({"P1",
                        fmt::format("integrate {} frames of {} MP over a mean of them that keeps its sums in cache",
                                    settings.frames, w * h / 1000000),
                        t["integrate"] / t["streaming_mean"], "x", 15, false});
    if (t.contains("integrate_12_two_threads") && t.contains("integrate_12_by_a_general_chain"))
        rows.push_back({"P2",
                        fmt::format("integrate {} frames: speed over a chain of general-purpose calls", few.size()),
                        t["integrate_12_by_a_general_chain"] / t["integrate_12_two_threads"], "x", 15, true});
    if (t.contains("measure") && t.contains("read_and_copy"))
        rows.push_back({"P3", "measure one exposure over reading and copying its pixels",
                        t["measure"] / t["read_and_copy"], "x", 3, false});
    if (t.contains("integrate_12_two_threads") && t.contains("integrate_12_one_thread"))
        rows.push_back({"P8", "integrate: speed on two threads over one",
                        t["integrate_12_one_thread"] / t["integrate_12_two_threads"], "x", 1.85, true});

    if (t.contains("integrate_12_two_threads") && t.contains("integrate_12_through_a_lens"))
        rows.push_back({"P1", "integrate through a lens over the same without",
                        t["integrate_12_through_a_lens"] / t["integrate_12_two_threads"], "x", 1.1, false});

    if (t.contains("integrate_12_of_a_square") && t.contains("integrate_12_turned"))
        rows.push_back({"P1", "integrate a square of frames turned by 37 degrees over the same of guided ones",
                        t["integrate_12_turned"] / t["integrate_12_of_a_square"], "x", 1.3, false});

    if (t.contains("integrate_12_two_threads") && t.contains("integrate_12_of_a_colour_sensor"))
        rows.push_back({"P1", "integrate frames of a colour sensor, three planes, over the same of a mono one",
                        t["integrate_12_of_a_colour_sensor"] / t["integrate_12_two_threads"], "x", 4, false});
    if (t.contains("measure_a_mosaic") && t.contains("read_and_copy"))
        rows.push_back({"P3", "measure one exposure of a colour sensor over reading and copying its pixels",
                        t["measure_a_mosaic"] / t["read_and_copy"], "x", 9, false});

    if (t.contains("integrate_12_two_threads") && t.contains("drizzle_12_two_threads"))
        rows.push_back({"drizzle", "drizzle onto pixels twice as fine over integrating the same frames",
                        t["drizzle_12_two_threads"] / t["integrate_12_two_threads"], "x", 3, false});

    { // P6: a project of 500 small frames, run twice
        sky::PlainOptions o;
        o.width = 240;
        o.height = 180;
        o.lights = 480;
        o.calibration = 7;
        o.stars = 60;
        o.dither = 5;
        o.galaxy = 0;
        const sky::Scenario small = sky::plain_scenario(o);
        const TemporaryFolder folder;
        sky::write_scenario(small, folder.path(), context);
        run_project({folder.path(), {}, {}}, context);
        const RunReport again = run_project({folder.path(), {}, {}}, context);
        rows.push_back({"P6", fmt::format("run again on {} frames, nothing changed", small.shots.size()), again.time,
                        "s", 1, false});
    }

    for (Row& row : gathering(settings.gather, context))
        rows.push_back(std::move(row));

    print(rows, settings.json);
    return 0;
}
