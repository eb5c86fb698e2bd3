// A simulated project, run, and its truth.
#pragma once

#include "simulated.hpp"

#include <kasane/base/error.hpp>
#include <kasane/base/hash.hpp>
#include <kasane/io/fits.hpp>
#include <kasane/project/run.hpp>
#include <kasane/stages/scan.hpp>

#include <cmath>
#include <filesystem>
#include <fstream>
#include <string>
#include <utility>

namespace kasane::bench {

/// A project that was simulated and run.
struct Project {
    TemporaryFolder folder;
    sky::Scenario scenario;
    RunReport report;

    /// @param reference  the light that gives the grid; empty: as the run chooses
    /// @param recipe     what stands in kasane.toml; empty: there is none
    Project(sky::Scenario s, const Context& context, const std::string& reference = {}, const std::string& recipe = {})
        : scenario(std::move(s)) {
        sky::write_scenario(scenario, path(), context);
        if (!recipe.empty()) std::ofstream(path() / "kasane.toml") << recipe;
        if (!reference.empty()) {
            Ledger ledger(path() / ".kasane");
            const Scan scan = scan_folder({path(), {}, {}}, ledger, context);
            const std::string group =
                file_safe(scenario.target) + "/" + pair_frames(scan.exposures).stacks.front().sensor;
            ledger.set_choice("reference/" + group, fingerprint(path() / reference));
        }
        report = run_project({path(), {}, {}}, context);
        if (report.stacks.size() != 1 || report.stacks.front().file.empty())
            throw DataError("the simulated project gave no master light", path(), {});
    }
    std::filesystem::path path() const { return folder.path() / "project"; }
    const StackReport& stack() const { return report.stacks.front(); }
    Image master() const { return read_plane(*open_fits(std::filesystem::path(report.output) / stack().file)); }
    const sky::Shot& light(const std::string& file) const {
        for (const sky::Shot* s : lights_of(scenario))
            if (s->path == file) return *s;
        throw DataError("no such light", file, {});
    }
    const sky::Shot& reference() const { return light(stack().reference); }
    /// Transparency of a light that would be on the stack's level as it is: what scales and transparencies agree on.
    double level_transparency() const {
        double sum = 0, n = 0;
        for (const FrameReport& f : stack().frames)
            if (f.used) sum += std::log(f.scale * light(f.path).conditions.transparency), ++n;
        return std::exp(sum / n);
    }
};

} // namespace kasane::bench
