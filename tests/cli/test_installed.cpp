// What `cmake --install` puts somewhere else: the command with its libraries and pages, and what programs are built
// with.
#include "support/places.hpp"
#include "support/support.hpp"

#include <kasane/image/statistics.hpp>
#include <kasane/io/fits.hpp>

#include <catch2/catch.hpp>
#include <fmt/format.h>
#include <fstream>
#include <sstream>

using namespace kasane;
using namespace kasane::test;
namespace fs = std::filesystem;

namespace {

/// Installs components into a folder of its own.
void install(const fs::path& to, const std::vector<std::string>& components) {
    for (const std::string& c : components) {
        const Outcome o =
            shell(fmt::format("cmake --install '{}' --prefix '{}' --component {}", kBuild, to.string(), c));
        INFO(o.out << o.err);
        REQUIRE(o.status == 0);
    }
}

/// Names that a shared library gives to others, as a person reads them, with their versions.
std::vector<std::string> exported(const fs::path& library) {
    const Outcome o = shell("nm -DC --defined-only --with-symbol-versions " + library.string());
    REQUIRE(o.status == 0);
    std::vector<std::string> out;
    std::istringstream in(o.out);
    for (std::string line; std::getline(in, line);)
        out.push_back(line.substr(line.find(' ', line.find(' ') + 1) + 1));
    return out;
}

std::vector<fs::path> libraries(const fs::path& root) {
    std::vector<fs::path> out;
    for (const auto& e : fs::recursive_directory_iterator(root))
        if (e.is_regular_file() && !e.is_symlink() && e.path().filename().string().find(".so.") != std::string::npos)
            out.push_back(e.path());
    return out;
}

} // namespace

TEST_CASE("An installed command brings its libraries and pages and works where it lies") {
    const TemporaryFolder folder;
    const fs::path root = folder / "here and there";
    install(root, {"command", "library"});
    const std::string kasane = fmt::format("env -u LD_LIBRARY_PATH '{}/bin/kasane'", root.string());
    CHECK_THAT(shell(kasane + " --version").out, Catch::StartsWith("kasane 0."));
    write_small_project(folder / "p");
    CHECK(shell(kasane + " run -q " + (folder / "p").string()).status == 0);
    CHECK(fs::exists(root / "share/man/man1/kasane-run.1.gz"));
    CHECK(fs::exists(root / "share/bash-completion/completions/kasane"));
    CHECK(fs::exists(root / "share/doc/kasane/changelog.gz"));
    // How a file manager opens a folder with it.
    const Outcome entry =
        shell(fmt::format("desktop-file-validate --no-hints '{}/share/applications/kasane.desktop'", root.string()));
    CHECK(entry.out == "");
    CHECK(entry.status == 0);
    CHECK(fs::exists(root / "share/icons/hicolor/scalable/apps/kasane.svg"));
    CHECK_FALSE(fs::exists(root / "include")); // that is for who builds upon it
}

TEST_CASE("Installed libraries give away names of Kasane alone, with their version") {
    const TemporaryFolder folder;
    install(folder.path(), {"library"});
    const std::vector<fs::path> found = libraries(folder.path());
    REQUIRE(found.size() == 3);
    for (const fs::path& library : found) {
        INFO(library);
        const std::string soname = shell("readelf -d " + library.string() + " | grep SONAME").out;
        const std::string file = library.filename().string(); // libkasane_core.so.0.1.0
        CHECK_THAT(soname, Catch::Contains("[" + file.substr(0, file.rfind('.')) + "]"));
        const auto names = exported(library);
        CHECK(names.size() > 50);
        for (const std::string& name : names) {
            if (name.starts_with("KASANE_0.")) continue; // the version itself
            INFO(name);
            CHECK(name.find("kasane::") != std::string::npos);
            CHECK(name.find("@@KASANE_0.") != std::string::npos);
        }
    }
}

TEST_CASE("The examples are built upon the installed libraries and do what they say") {
    const TemporaryFolder folder;
    const fs::path root = folder / "installed", built = folder / "built";
    install(root, {"library", "development"});
    // A program of somebody else: the examples, and every header that was installed.
    const fs::path program = folder / "program";
    fs::create_directories(program);
    std::ofstream all(program / "all.cpp");
    for (const auto& e : fs::recursive_directory_iterator(root / "include"))
        if (e.is_regular_file()) all << "#include <" << fs::relative(e.path(), root / "include").string() << ">\n";
    all.close();
    std::ofstream(program / "CMakeLists.txt")
        << "cmake_minimum_required(VERSION 3.25)\nproject(program LANGUAGES CXX)\nfind_package(kasane 0.1 REQUIRED)\n"
        << "add_library(all_headers OBJECT all.cpp)\n"
        << "target_link_libraries(all_headers PRIVATE kasane::project kasane::sky)\n"
        << "add_subdirectory(" << (root / "share/doc/libkasane-dev/examples").string() << " examples)\n";
    const Outcome made =
        shell(fmt::format("cmake -G Ninja -S {} -B {} -DCMAKE_PREFIX_PATH={} -DCMAKE_BUILD_TYPE=Debug "
                          "-DCMAKE_CXX_FLAGS='-Wall -Wextra -Wpedantic -Wshadow -Wno-missing-field-initializers "
                          "-Werror' && cmake --build {} --parallel 2",
                          program.string(), built.string(), root.string(), built.string()));
    INFO(made.out << made.err);
    REQUIRE(made.status == 0);

    write_small_project(folder / "p");
    const std::string night = (folder / "p/night-1").string(), lights = night + "/lights";
    std::vector<fs::path> files;
    for (const auto& e : fs::directory_iterator(lights))
        files.push_back(e.path());
    std::sort(files.begin(), files.end());
    const auto example = [&](const std::string& line) {
        const Outcome o = shell("cd " + folder.path().string() + " && " + (built / "examples").string() + "/" + line);
        UNSCOPED_INFO(line << ": " << o.err);
        return o;
    };
    const auto made_here = [&](const std::string& name) { return open_fits(folder / name); };

    Outcome o = example("read_image " + files[0].string());
    CHECK(o.status == 0);
    CHECK_THAT(o.out, Catch::StartsWith("FITS, 320 x 240, 1 plane\n") && Catch::Contains("EXPTIME") &&
                          Catch::Contains("plane 0: level "));
    o = example("measure_frame " + files[0].string());
    CHECK(o.status == 0);
    CHECK_THAT(o.out, Catch::StartsWith("stars ") && Catch::Contains("FWHM ") && Catch::Contains("x,y,flux,fwhm\n"));
    o = example("register_images " + files[0].string() + " " + files[5].string() + " onto.fits");
    CHECK(o.status == 0);
    CHECK_THAT(o.out, Catch::Contains(" stars, residuals of 0."));
    CHECK(made_here("onto.fits")->width() == 320);
    for (const std::string role : {"bias", "dark"}) {
        fs::create_directories(folder / role);
        for (const auto& e : fs::directory_iterator(folder / "p/darks"))
            if (e.path().filename().string().starts_with(role + "_"))
                fs::copy_file(e.path(), (folder / role) / e.path().filename());
        o = example(fmt::format("make_master {0} {0} {0}.fits", role));
        CHECK(o.status == 0);
        CHECK_THAT(o.out, Catch::StartsWith("6 frames, noise "));
    }
    o = example(fmt::format("make_master flat {}/flats flat.fits bias.fits", night));
    CHECK(o.status == 0);
    CHECK(image_statistics(read_plane(*made_here("flat.fits")).plane()).location == Approx(1).margin(0.05));
    o = example("calibrate_light " + files[0].string() + " dark.fits flat.fits light.fits");
    CHECK(o.status == 0);
    // The offset of hundreds of ADU is gone, and the light is all there.
    const float before = image_statistics(read_plane(*open_fits(files[0])).plane()).location;
    const float dark = image_statistics(read_plane(*made_here("dark.fits")).plane()).location;
    const float after = image_statistics(read_plane(*made_here("light.fits")).plane()).location;
    CHECK(after == Approx(before - dark).epsilon(0.1));
    o = example("stack_folder " + lights + " mean.fits");
    CHECK(o.status == 0);
    CHECK_THAT(o.out, Catch::Contains("of 10 lights"));
    const auto mean = made_here("mean.fits");
    CHECK(mean->width() == 320);
    o = example("drizzle_folder " + lights + " 2 fine.fits");
    CHECK(o.status == 0);
    CHECK(made_here("fine.fits")->width() == 640);
    o = example("take_off_gradient mean.fits flattened.fits flattened.png");
    CHECK(o.status == 0);
    CHECK_THAT(o.out, Catch::Contains(" ADU from edge to edge"));
    CHECK(fs::exists(folder / "flattened.png"));
    o = example("grade_project " + (folder / "p").string() + " 'stars < 1'");
    CHECK(o.status == 0);
    CHECK_THAT(o.out, Catch::Contains("FWHM ") && Catch::Contains(", kept"));
    o = example("run_project " + (folder / "p").string());
    CHECK(o.status == 0);
    CHECK_THAT(o.out, Catch::Contains(": 10 lights, ") && Catch::Contains(".fits\n"));
    // What does not work is said, to which file.
    std::ofstream(folder / "broken.fits") << "nothing";
    o = example("measure_frame broken.fits");
    CHECK(o.status == 3);
    CHECK_THAT(o.err, Catch::Contains("broken.fits"));
    CHECK(example("stack_folder").status == 2);

    const std::string source = read_file(fs::path(kSources) / "examples/stack_folder.cpp");
    const std::string readme = read_file(fs::path(kSources) / "README.md");
    CHECK(readme.find(source) != std::string::npos);
}
