// kasane-fidelity: how close the results come to the truth. Prints a table, and JSON with --json FILE.
#include "fidelity_measures.hpp"

#include <cstring>
#include <fmt/format.h>
#include <fstream>
#include <nlohmann/json.hpp>

int main(int argc, char** argv) {
    using namespace kasane;
    const char* json_file = nullptr;
    std::string only;
    static std::uint64_t seed = 400000; // of the heaps; the thresholds were set on others
    static int heaps = 60;
    static int cases = 1000; // of star lists, a row
    for (int i = 1; i + 1 < argc; i += 2) {
        if (!std::strcmp(argv[i], "--json")) json_file = argv[i + 1];
        if (!std::strcmp(argv[i], "--only")) only = argv[i + 1];
        if (!std::strcmp(argv[i], "--seed")) seed = std::stoull(argv[i + 1]);
        if (!std::strcmp(argv[i], "--cases")) cases = std::stoi(argv[i + 1]);
        if (!std::strcmp(argv[i], "--heaps")) heaps = std::stoi(argv[i + 1]);
    }
    const Workers workers;
    Progress silent;
    const Context context{workers, default_budget(), silent};
    using Measure = std::vector<bench::Figure> (*)(const Context&);
    const std::pair<const char*, Measure> measures[] = {
        {"F1", bench::registration_error},
        {"F2", [](const Context& c) { return bench::registration_success(c, cases); }},
        {"F16", [](const Context& c) { return bench::registration_through_lenses(c, cases); }},
        {"F20", bench::panel_positions},
        {"F3", bench::centroid_error},
        {"F4", bench::width_bias},
        {"F5", bench::star_flux},
        {"F6", bench::master_noise},
        {"F7", bench::outliers_left},
        {"F8", bench::star_cores},
        {"F9", bench::illumination_left},
        {"F10", bench::level_mismatch},
        {"F11", bench::ringing},
        {"F12", bench::drizzled},
        {"F13", bench::star_colours},
        {"F14", bench::calibration_noise},
        {"F15", bench::told_noise},
        {"F17", bench::gradients_left},
        {"F18", bench::compared_depth},
        {"F19", bench::sharpening},
        {"verdicts", [](const Context& c) { return bench::verdict_errors(c, seed, heaps); }},
        {"roles", [](const Context& c) { return bench::role_errors(c, seed, heaps); }}};
    nlohmann::json all = nlohmann::json::array();
    fmt::print("| # | what | measured | goal |\n|---|---|---|---|\n");
    for (const auto& [number, measure] : measures) {
        if (!only.empty() && only != number) continue;
        for (const bench::Figure& f : measure(context)) {
            fmt::print("| {} | {} | {:.4g} {} | <= {:g} {} |\n", f.number, f.what, f.value, f.unit, f.goal, f.unit);
            std::fflush(stdout);
            all.push_back(
                {{"number", f.number}, {"what", f.what}, {"value", f.value}, {"unit", f.unit}, {"goal", f.goal}});
        }
    }
    if (json_file) std::ofstream(json_file) << all.dump(1) << "\n";
    return 0;
}
