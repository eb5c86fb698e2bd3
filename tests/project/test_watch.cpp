// A night that is watched: what is told when, what is measured again, and what stands in the way.
#include "support/projects.hpp"

#include <kasane/base/error.hpp>
#include <kasane/image/statistics.hpp>
#include <kasane/project/watch.hpp>

#include <atomic>
#include <catch2/catch.hpp>
#include <fstream>
#include <thread>

using namespace kasane;
using namespace kasane::test;
namespace fs = std::filesystem;

namespace {

constexpr WatchOptions kQuickly{std::chrono::milliseconds(30), std::chrono::milliseconds(200), 900};

/// A project whose last lights are yet to come.
struct Night {
    CopyOf<[](const fs::path& folder) { write_small_project(folder); }> project;
    TemporaryFolder later;
    std::vector<fs::path> coming;
    GradeOptions options;
    Quiet quiet;

    explicit Night(std::size_t to_come) {
        options.run.folder = project.path;
        std::vector<fs::path> lights;
        for (const auto& e : fs::recursive_directory_iterator(project.path))
            if (e.is_regular_file() && e.path().parent_path().filename() == "lights") lights.push_back(e.path());
        std::sort(lights.begin(), lights.end());
        for (std::size_t i = lights.size() - to_come; i < lights.size(); ++i)
            coming.push_back(lights[i]);
        for (const fs::path& file : coming)
            fs::rename(file, later / file.filename().string());
    }
    void comes(std::size_t i) { fs::copy_file(later / coming[i].filename().string(), coming[i]); }
};

} // namespace

TEST_CASE("Lights are told once as they come, and their master light grows by them") {
    Night night(3);
    Watch watch(night.options, night.quiet.context, kQuickly);
    WatchNews news = watch.look();
    REQUIRE(news.problem == "");
    REQUIRE(news.masters.size() == 1);
    CHECK(news.lights.size() == 7);
    CHECK(news.masters[0].kept == 7);
    CHECK(news.masters[0].shown == 7);
    CHECK(news.masters[0].growth.size() == 7);
    REQUIRE(news.masters[0].picture);
    const double before = news.masters[0].noise;
    const int version = news.masters[0].version;

    night.comes(0);
    watch.wait();
    news = watch.look();
    REQUIRE(news.lights.size() == 1);
    CHECK(fs::path(news.lights[0].path).filename() == night.coming[0].filename());
    CHECK(news.lights[0].verdict.keep);
    CHECK_FALSE(news.lights[0].again);
    const GrowingMaster& m = news.masters[0];
    CHECK(m.kept == 8);
    CHECK(m.shown == 8);
    CHECK(m.version > version);
    // Lights that are alike.
    CHECK(m.noise == Approx(before * std::sqrt(7.0 / 8)).epsilon(0.05));
    CHECK(m.growth.back().noise == Approx(m.noise).epsilon(1e-6));
    CHECK(m.growth.back().seconds == Approx(m.seconds));
    CHECK(m.noise_in_an_hour == Approx(m.noise * std::sqrt(m.seconds / (m.seconds + 3600))).epsilon(0.01));
    // The picture has that noise, but for what interpolation takes of it.
    const double seen = background_noise(m.picture->plane(), 2);
    CHECK(seen < 1.1 * m.noise);
    CHECK(seen > 0.6 * m.noise);

    // Nothing is measured twice: not by the next look, and not by the run that goes on from there.
    Meddler told;
    const Context context{night.quiet.workers, night.quiet.context.memory, told};
    RunOptions options;
    options.folder = night.project.path;
    const RunReport report = run_project(options, context);
    CHECK(report.stacks.at(0).used == 8);
    CHECK(told.totals["measure"] == 0);
}

TEST_CASE("A light that is still being written is waited for and then taken in") {
    Night night(1);
    // The camera writes a piece every 10 ms, twenty times for each glance at the folder.
    WatchOptions patient = kQuickly;
    patient.every = std::chrono::milliseconds(250);
    Watch watch(night.options, night.quiet.context, patient);
    watch.look();
    const std::string whole = read_file(night.later / night.coming[0].filename().string());
    std::atomic<bool> written = false;
    std::thread camera([&] {
        constexpr std::size_t kPieces = 60;
        for (std::size_t k = 0; k < kPieces; ++k) { // slower than the folder is looked at
            const std::size_t from = whole.size() * k / kPieces, to = whole.size() * (k + 1) / kPieces;
            std::ofstream(night.coming[0], std::ios::binary | std::ios::app)
                .write(&whole[from], static_cast<std::streamsize>(to - from));
            std::this_thread::sleep_for(std::chrono::milliseconds(10));
        }
        written = true;
    });
    watch.wait();
    CHECK(written);
    camera.join();
    WatchNews news = watch.look();
    CHECK(news.findings.empty());
    CHECK(news.masters.at(0).kept == 10);

    // One that stays cut short is told once, as what it is, and taken in when it is whole.
    fs::copy_file(night.coming[0], night.later / "whole");
    fs::resize_file(night.coming[0], 20000);
    watch.wait();
    news = watch.look();
    REQUIRE(news.findings.size() == 1);
    CHECK(news.findings[0].files.at(0) == fs::relative(night.coming[0], night.project.path).string());
    CHECK(news.masters.at(0).kept == 9);
    CHECK(news.masters.at(0).shown == 9);
    fs::copy_file(night.later / "whole", night.coming[0], fs::copy_options::overwrite_existing);
    watch.wait();
    news = watch.look();
    CHECK(news.findings.empty());
    CHECK(news.masters.at(0).shown == 10);
}

TEST_CASE("What a person decides while a night is watched is told and changes the picture") {
    Night night(0);
    Watch watch(night.options, night.quiet.context, kQuickly);
    const WatchNews first = watch.look();
    const ArrivedLight& one = first.lights.at(4);
    save_verdicts(night.project.path, {{one.path, "", Decision{false, "a bird"}}});
    watch.wait();
    WatchNews news = watch.look();
    REQUIRE(news.lights.size() == 1);
    CHECK(news.lights[0].again);
    CHECK_FALSE(news.lights[0].verdict.keep);
    CHECK(news.masters.at(0).shown == 9);
    CHECK(news.masters.at(0).dropped == 1);
    save_verdicts(night.project.path, {{one.path, "", std::nullopt}});
    watch.wait();
    news = watch.look();
    CHECK(news.lights.at(0).verdict.keep);
    REQUIRE(news.masters.at(0).shown == 10);
    // As if it had never left.
    const Image &now = *news.masters[0].picture, &then = *first.masters.at(0).picture;
    double most = 0;
    for (std::size_t i = 0; i < now.pixels().size(); ++i)
        if (std::isfinite(now.pixels()[i]))
            most = std::max(most, static_cast<double>(std::abs(now.pixels()[i] - then.pixels()[i])));
    CHECK(most < 0.01 * news.masters[0].noise);
}

TEST_CASE("A watch begins before there is anything, and passes over what is wrong for a while") {
    const TemporaryFolder folder;
    const fs::path project = folder / "p";
    fs::create_directories(project);
    GradeOptions options;
    options.run.folder = project;
    const Quiet quiet;
    Watch watch(options, quiet.context, kQuickly);
    WatchNews news = watch.look();
    CHECK_THAT(news.problem, Catch::Contains("no lights"));
    CHECK(news.masters.empty());
    CHECK_FALSE(news.project);
    write_small_project(project);
    watch.wait();
    news = watch.look();
    CHECK(news.problem == "");
    CHECK(news.masters.at(0).shown == 10);

    write_recipe(project, "[grading]\nlimits = [\"fwhm is too large\"]\n");
    watch.wait();
    news = watch.look();
    CHECK_THAT(news.problem, Catch::Contains("kasane.toml") && Catch::Contains("fwhm is too large"));
    fs::remove(project / "kasane.toml");
    watch.wait();
    news = watch.look();
    CHECK(news.problem == "");
    CHECK(news.lights.empty()); // all as before
    CHECK(news.masters.at(0).shown == 10);

    {
        // Another run holds the project: it is tried again by itself.
        const Ledger held(project / ".kasane", Ledger::Use::work);
        std::ofstream(project / "kasane.toml") << "# nothing\n";
        watch.wait();
        CHECK_THAT(watch.look().problem, Catch::Contains("another"));
    }
    watch.wait();
    CHECK(watch.look().problem == "");
    CHECK_THROWS_AS(Watch(GradeOptions{{folder / "nowhere"}}, quiet.context), InputError);
    GradeOptions wrong = options;
    wrong.limits = {"beauty > 3"};
    CHECK_THROWS_AS(Watch(wrong, quiet.context), UsageError);
}

TEST_CASE("Flats that come at dawn, and lights that leave, make the picture anew of all that is there") {
    Night night(0);
    const fs::path flats = night.project.path / "night-1/flats";
    REQUIRE(fs::is_directory(flats));
    fs::rename(flats, night.later / "flats");
    Watch watch(night.options, night.quiet.context, kQuickly);
    WatchNews news = watch.look();
    CHECK(news.masters.at(0).shown == 10);
    const auto before = news.masters[0].picture;
    fs::rename(night.later / "flats", flats);
    watch.wait();
    news = watch.look();
    CHECK(news.masters.at(0).shown == 10);
    CHECK(news.masters[0].picture != before);
    fs::remove(night.project.path / news.project->report.stacks[0].frames[0].path);
    watch.wait();
    news = watch.look();
    CHECK(news.masters.at(0).kept == 9);
    CHECK(news.masters.at(0).shown == 9);
}

TEST_CASE("A watch ends when it is asked to, whatever it waits for") {
    Night night(0);
    const CancelToken cancel;
    const Workers workers(2, cancel);
    Progress silent;
    Watch watch(night.options, {workers, {1ull << 30}, silent}, kQuickly);
    watch.look();
    std::thread asks([&] {
        std::this_thread::sleep_for(std::chrono::milliseconds(120));
        cancel.request();
    });
    CHECK_THROWS_AS(watch.wait(), Cancelled);
    asks.join();
    CHECK_THROWS_AS(watch.look(), Cancelled);
}
