// The last step of a run by itself: other settings, some stacks only, rejections compared.
#include "support/support.hpp"

#include <kasane/io/fits.hpp>
#include <kasane/project/run.hpp>
#include <kasane/stages/level_records.hpp>

#include <SQLiteCpp/SQLiteCpp.h>

#include <catch2/catch.hpp>
#include <filesystem>
#include <fmt/format.h>
#include <fstream>
#include <nlohmann/json.hpp>

using namespace kasane;
using namespace kasane::test;
namespace fs = std::filesystem;
using nlohmann::json;

namespace {

void write_recipe(const fs::path& folder, const std::string& text) {
    std::ofstream(folder / "kasane.toml") << text;
}

json integrated(const fs::path& folder, const std::string& options = "") {
    return json::parse(shell(fmt::format("{{kasane}} integrate -q --json {} -C {}", options, folder.string())).out);
}

} // namespace

TEST_CASE("Other settings make the master light anew, measure nothing again, and are told") {
    const TemporaryFolder folder;
    const fs::path p = folder / "p";
    write_small_project(p);
    const json first = integrated(p).at("stacks").at(0);
    CHECK(first.at("reused") == false);
    CHECK_THAT(first.at("combination").get<std::string>(), Catch::Contains("ways tried"));
    CHECK(first.at("rejection_trials").size() == 7);
    CHECK(first.at("weight_costs").size() == 4);
    CHECK(integrated(p).at("stacks").at(0).at("reused") == true);

    write_recipe(p, "[integration]\nrejection = \"esd\"\ncombine = \"sum\"\nweights = { worth = 1, fwhm = -2 }\n");
    const Outcome o = shell("{kasane} integrate -C " + p.string());
    CHECK(o.err.find("measure") == std::string::npos);
    CHECK_THAT(o.out, Catch::Contains("instead of esd"));
    const json sum = integrated(p).at("stacks").at(0);
    CHECK_THAT(sum.at("combination").get<std::string>(),
               Catch::StartsWith("10 frames: sum") && Catch::EndsWith("weighed by worth = 1, fwhm = -2"));
    CHECK(sum.at("noise").get<double>() == Approx(10 * first.at("noise").get<double>()).epsilon(0.05));
    CHECK(sum.at("weights") == "worth = 1, fwhm = -2");

    write_recipe(p, "[integration]\ncombine = \"max\"\n");
    const json most = integrated(p).at("stacks").at(0);
    CHECK((most.at("rejected_high") == 0 && most.at("rejection_trials").empty()));
    write_recipe(p, "[integration]\nweights = { snr = 10 }\nrejection = { method = \"min-max\", low = 2, high = 2 }\n");
    const json trimmed = integrated(p).at("stacks").at(0);
    CHECK(trimmed.at("rejected_low").get<double>() == Approx(0.2).margin(0.01));
    CHECK(trimmed.at("frames").at(0).contains("rejected_high"));

    // What was rejected is in the file and in a picture.
    const fs::path light = p / "kasane" / trimmed.at("file").get<std::string>();
    const Image high = read_plane(*open_fits(light, "REJECTED_HIGH"));
    CHECK(high(160, 120) == Approx(0.2).margin(0.15));
    CHECK(fs::exists(p / "kasane" / trimmed.at("rejection_picture").get<std::string>()));
    // A picture that is gone is made again.
    fs::remove(p / "kasane" / trimmed.at("rejection_picture").get<std::string>());
    CHECK(integrated(p).at("stacks").at(0).at("reused") == false);
    CHECK(fs::exists(p / "kasane" / trimmed.at("rejection_picture").get<std::string>()));
}

TEST_CASE("Rejections are compared without making anything") {
    const TemporaryFolder folder;
    const fs::path p = folder / "p";
    write_small_project(p);
    write_recipe(p, "[integration]\nrejection = { method = \"sigma\", low = 2, high = 2 }\n");
    const Outcome o = shell("{kasane} integrate -q --compare-rejections -C " + p.string());
    CHECK(o.status == 0);
    for (const char* method : {"sigma", "winsorized", "noise", "line", "percentile", "min-max", "none"})
        CHECK_THAT(o.out, Catch::Contains(method));
    CHECK_THAT(o.out, Catch::Contains("beyond 2 sigma")); // the one that the recipe fixes as well
    CHECK_FALSE(fs::exists(p / "kasane/lights"));
    CHECK_FALSE(fs::exists(p / "kasane/report.txt"));
    const json compared = integrated(p, "--compare-rejections").at("stacks").at(0);
    CHECK(compared.at("rejection_trials").size() == 8);
    CHECK(compared.at("file") == "");
}

TEST_CASE("Only what is named is made, and what is not there is told") {
    const TemporaryFolder folder;
    const fs::path p = folder / "p";
    write_small_project(p);
    CHECK(integrated(p, "--only l").at("stacks").size() == 1);
    CHECK(integrated(p, "--only Paper-Lantern-Field-L").at("stacks").at(0).at("reused") == true);
    CHECK_FALSE(fs::exists(p / "kasane/report.txt")); // tells of all
    CHECK_THAT(shell("{kasane} integrate -q --only L -C " + p.string()).out, Catch::Contains("of the last run of all"));
    const Outcome o = shell("{kasane} integrate -q --only Ha -C " + p.string());
    CHECK(o.status == 2);
    CHECK_THAT(o.err, Catch::Contains("no stack and no filter called 'Ha'") && Catch::Contains("There are L"));
}

TEST_CASE("Levels are fitted once, and kept ones make the same bytes as fresh ones") {
    const TemporaryFolder folder;
    const fs::path p = folder / "p", q = folder / "q";
    write_small_project(p);
    write_small_project(q);
    const auto known_facts = [](const fs::path& project) {
        SQLite::Database ledger(project / ".kasane/ledger.sqlite", SQLite::OPEN_READONLY);
        return ledger.execAndGet("SELECT count(*) FROM facts").getInt();
    };
    integrated(p);
    const int once = known_facts(p);
    const std::string other = "[integration]\nrejection = \"winsorized\"\n";
    write_recipe(p, other);
    write_recipe(q, other);
    const json kept = integrated(p).at("stacks").at(0), fresh = integrated(q).at("stacks").at(0);
    CHECK(known_facts(p) == once + 1); // the stack's report alone is new
    const std::string file = kept.at("file");
    CHECK(fresh.at("file") == file);
    CHECK(read_plane(*open_fits(p / "kasane" / file)).pixels() == read_plane(*open_fits(q / "kasane" / file)).pixels());
    // Another way to level is fitted for itself.
    write_recipe(p, other + "[normalization]\nlevel = \"offset\"\n");
    integrated(p);
    CHECK(known_facts(p) == once + 3);
}

TEST_CASE("Levels come back from their bytes as they were, and from no others") {
    const Canvas canvas{.width = 300, .height = 200};
    StackLevels levels;
    levels.model = LevelModel::planes;
    levels.background = 812.25, levels.gradient = 3.5, levels.steepest = 9;
    for (int k = 0; k < 3; ++k) {
        LevelMap map{canvas.centre(), {1.0 + 0.1 * k, 1e-5, 0, {}}, {-5.0 * k, 0, 1e-3, Lattice::over(canvas, 64)}};
        for (float& c : map.offset.lattice.coefficients)
            c = 0.25f * static_cast<float>(k);
        levels.maps.push_back(map);
        levels.scales.push_back({1.0 + 0.1 * k, 40 + k, 0.002, 1e-6, -1e-6});
        levels.shares.push_back(k / 3.0);
    }
    const std::string bytes = encode(levels);
    CHECK(decode_levels(bytes) == levels);
    for (std::size_t n = 0; n < bytes.size(); n += 7)
        CHECK_FALSE(decode_levels(bytes.substr(0, n)).has_value());
    CHECK_FALSE(decode_levels(bytes + "x").has_value());
}
