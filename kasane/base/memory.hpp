// How much memory a run may use, and how much it uses.
#pragma once

#include <cstddef>
#include <cstdint>
#include <filesystem>
#include <string>

namespace kasane {

/// A ceiling for the resident size of the whole process, in bytes.
struct MemoryBudget {
    std::uint64_t bytes = 0;

    /// What is left for buffers once the program itself (code, libraries, lists) is paid for; never below 32 MiB.
    std::uint64_t for_buffers() const;
    /// How many buffers of `bytes_each` fit, between 1 and `wanted`.
    int fitting(std::uint64_t bytes_each, int wanted) const;
};

/// Physical memory of the machine, or the limit of the control groups this process lies in where that is lower. Bytes.
std::uint64_t machine_memory();
/// The lowest limit of the control groups that a file like /proc/self/cgroup names and of those around them, in a tree
/// of groups of either version, as lies at /sys/fs/cgroup. Bytes; the largest number where there is none.
std::uint64_t group_memory(const std::filesystem::path& own_groups, const std::filesystem::path& tree);
/// Half of the machine.
MemoryBudget default_budget();
/// Resident size of this process now and at its highest. Bytes.
std::uint64_t resident_memory();
std::uint64_t peak_resident_memory();

/// Buffers from this size on are pages of their own.
constexpr std::size_t kOwnPages = std::size_t{8} << 20;
/// Zeroed pages for a large buffer: as few and as large ones as the system has, which spares it faults, and the reading
/// of distant rows the searching for their pages. Throws std::bad_alloc.
void* take_pages(std::size_t bytes);
void give_pages(void* pages, std::size_t bytes) noexcept;

/// "1.4 GB", "300 MB".
std::string size_text(std::uint64_t bytes);

} // namespace kasane
