#include <kasane/base/memory.hpp>

#include <fmt/format.h>

#include <algorithm>
#include <fstream>
#include <limits>
#include <new>
#include <string>
#include <sys/mman.h>
#include <unistd.h>

namespace kasane {

namespace {
constexpr std::uint64_t kMiB = 1ull << 20;
constexpr std::uint64_t kProgramBytes = 48 * kMiB; // code, libraries, ledger, star lists of a usual run
constexpr std::uint64_t kLeastBytes = 32 * kMiB;

std::uint64_t status_field(const char* name) {
    std::ifstream status("/proc/self/status");
    for (std::string line; std::getline(status, line);)
        if (line.rfind(name, 0) == 0) return std::stoull(line.substr(line.find_first_of("0123456789"))) * 1024;
    return 0;
}
} // namespace

std::uint64_t MemoryBudget::for_buffers() const {
    return bytes > kProgramBytes + kLeastBytes ? bytes - kProgramBytes : kLeastBytes;
}

int MemoryBudget::fitting(std::uint64_t bytes_each, int wanted) const {
    const auto n = for_buffers() / std::max<std::uint64_t>(bytes_each, 1);
    return static_cast<int>(std::clamp<std::uint64_t>(n, 1, static_cast<std::uint64_t>(std::max(wanted, 1))));
}

std::uint64_t machine_memory() {
    const auto all =
        static_cast<std::uint64_t>(sysconf(_SC_PHYS_PAGES)) * static_cast<std::uint64_t>(sysconf(_SC_PAGESIZE));
    return std::min(all, group_memory("/proc/self/cgroup", "/sys/fs/cgroup"));
}

std::uint64_t group_memory(const std::filesystem::path& own_groups, const std::filesystem::path& tree) {
    auto lowest = std::numeric_limits<std::uint64_t>::max();
    const auto look = [&](const std::filesystem::path& file) {
        std::ifstream in(file);
        std::uint64_t limit = 0;
        if (in >> limit && limit > 0) lowest = std::min(lowest, limit); // "max" is not a number: no limit
    };
    // From the group up to the root of the tree, which in a container may be a group of its own.
    const auto climb = [&](const std::filesystem::path& root, std::filesystem::path group, const char* file) {
        for (group = group.relative_path(); !group.empty(); group = group.parent_path())
            look(root / group / file);
        look(root / file);
    };
    std::ifstream groups(own_groups);
    for (std::string line; std::getline(groups, line);) { // number:controllers:path
        const auto first = line.find(':'), second = line.find(':', first + 1);
        if (first == std::string::npos || second == std::string::npos) continue;
        const std::string controllers = fmt::format(",{},", line.substr(first + 1, second - first - 1)),
                          group = line.substr(second + 1);
        if (controllers == ",,")
            climb(tree, group, "memory.max");
        else if (controllers.find(",memory,") != std::string::npos)
            climb(tree / "memory", group, "memory.limit_in_bytes");
    }
    return lowest;
}

MemoryBudget default_budget() {
    return {machine_memory() / 2};
}

std::uint64_t resident_memory() {
    return status_field("VmRSS:");
}

std::uint64_t peak_resident_memory() {
    return status_field("VmHWM:");
}

namespace {

constexpr std::size_t kHugePage = std::size_t{2} << 20;

std::size_t whole_pages(std::size_t bytes) {
    const auto page = static_cast<std::size_t>(::sysconf(_SC_PAGESIZE));
    return (bytes + page - 1) / page * page;
}

} // namespace

void* take_pages(std::size_t bytes) {
    const std::size_t size = whole_pages(bytes), room = size + kHugePage;
    if (room < bytes) throw std::bad_alloc();
    void* const all = ::mmap(nullptr, room, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
    if (all == MAP_FAILED) throw std::bad_alloc();
    auto* const first = static_cast<std::byte*>(all);
    const std::size_t before = (kHugePage - reinterpret_cast<std::uintptr_t>(all) % kHugePage) % kHugePage;
    if (before > 0) ::munmap(first, before);
    if (room > before + size) ::munmap(first + before + size, room - before - size);
    // What does not fill a large page stays in small ones: no more memory is taken than is used.
    ::madvise(first + before, size / kHugePage * kHugePage, MADV_HUGEPAGE); // a wish
    return first + before;
}

void give_pages(void* pages, std::size_t bytes) noexcept {
    ::munmap(pages, whole_pages(bytes));
}

std::string size_text(std::uint64_t bytes) {
    const double size = static_cast<double>(bytes);
    return size >= 1e9   ? fmt::format("{:.1f} GB", size / 1e9)
           : size >= 1e6 ? fmt::format("{:.0f} MB", size / 1e6)
                         : fmt::format("{:.0f} kB", size / 1e3);
}

} // namespace kasane
