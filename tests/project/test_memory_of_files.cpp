// What the system keeps of the files that a run reads.
#include "support/projects.hpp"

#include <kasane/base/memory.hpp>
#include <kasane/io/input_file.hpp>
#include <kasane/project/grade.hpp>

#include <catch2/catch.hpp>
#include <fstream>
#include <linux/magic.h>
#include <optional>
#include <sys/mman.h>
#include <sys/vfs.h>
#include <unistd.h>

using namespace kasane;
using namespace kasane::test;
namespace fs = std::filesystem;

namespace {

using Dozen = CopyOf<[](const fs::path& to) {
    const Quiet quiet;
    sky::PlainOptions o = small_options();
    o.lights = 6;
    o.dither = 4;
    o.calibration = 6;
    sky::write_scenario(sky::plain_scenario(o), to, quiet.context);
}>;

/// How much of a file is in memory, 0 to 1.
double kept_share(const fs::path& file) {
    const InputFile open(file);
    const auto page = static_cast<std::size_t>(::sysconf(_SC_PAGESIZE));
    std::vector<unsigned char> pages((static_cast<std::size_t>(open.size()) + page - 1) / page);
    void* const mapped = const_cast<std::byte*>(open.mapped());
    REQUIRE(::mincore(mapped, static_cast<std::size_t>(open.size()), pages.data()) == 0);
    const auto there = std::count_if(pages.begin(), pages.end(), [](unsigned char p) { return (p & 1) != 0; });
    return static_cast<double>(there) / static_cast<double>(pages.size());
}

/// Smallest and largest share over the files of a folder whose names begin so.
std::pair<double, double> kept_of(const fs::path& folder, const std::string& kind) {
    std::pair<double, double> out{1, 0};
    int files = 0;
    for (const auto& entry : fs::directory_iterator(folder)) {
        if (!entry.path().filename().string().starts_with(kind) || entry.path().extension() != ".fits") continue;
        const double share = kept_share(entry.path());
        out = {std::min(out.first, share), std::max(out.second, share)};
        ++files;
    }
    REQUIRE(files >= 6);
    return out;
}

/// Of memory itself nothing is ever let go of.
bool is_on_disk(const fs::path& folder) {
    struct statfs info {};
    REQUIRE(::statfs(folder.c_str(), &info) == 0);
    return info.f_type != TMPFS_MAGIC && info.f_type != RAMFS_MAGIC;
}

/// Whether the system was told that the mapped memory of a file is gone through once; nothing where none is mapped.
std::optional<bool> in_passing(const fs::path& file) {
    std::ifstream maps("/proc/self/smaps");
    std::optional<bool> out;
    bool here = false;
    for (std::string line; std::getline(maps, line);) {
        if (line.find("-") < line.find(" ") && std::isxdigit(static_cast<unsigned char>(line[0])))
            here = line.ends_with(" " + file.string());
        if (here && line.starts_with("VmFlags:")) out = out.value_or(true) && line.find(" sr") != std::string::npos;
    }
    return out;
}

} // namespace

TEST_CASE("Lights are read in passing and their masters are not") {
    const Dozen p;
    const Quiet quiet;
    GradeOptions grading;
    grading.run = {p.path, {}, {}};
    const GradedProject graded(grading, quiet.context);
    const auto frame = graded.stack_frame(0, 0);
    REQUIRE(frame);
    (void)read_planes(*frame->source, {100, 100, 40, 40});
    CHECK(in_passing(p.path / graded.report.stacks[0].frames[0].path) == true);
    int masters = 0;
    for (const auto& entry : fs::directory_iterator(p.path / "kasane/masters"))
        if (const auto told = in_passing(entry.path())) {
            CHECK_FALSE(*told);
            ++masters;
        }
    CHECK(masters >= 2);
}

TEST_CASE("Where not all exposures fit into memory those of masters make room, and results are the same") {
    const Dozen roomy, tight;
    ::sync(); // what is not on the disk yet stays whatever anybody wishes
    Progress silent;
    const Workers workers(2);
    run_project({roomy.path, {}, {}}, {workers, {std::uint64_t{200} << 20}, silent});
    run_project({tight.path, {}, {}}, {workers, {machine_memory()}, silent});
    CHECK(digests(roomy.path / "kasane") == digests(tight.path / "kasane"));
    if (!is_on_disk(tight.path)) return;
    CHECK(kept_of(roomy.path / "darks", "dark").first > 0.9);
    CHECK(kept_of(tight.path / "darks", "dark").second == 0);
    CHECK(kept_of(tight.path / "night-1/lights", "L_").first > 0.9);
}
