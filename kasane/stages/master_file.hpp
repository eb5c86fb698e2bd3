// The file of a calibration master: what is written of one that was built, and what is read of one that is there. Part
// of stage 3.
#pragma once

#include <kasane/calibration/master.hpp>
#include <kasane/stages/session.hpp>

#include <filesystem>
#include <optional>
#include <string>
#include <vector>

namespace kasane {

/// A master that was built, and all that its file says of it.
struct BuiltMaster {
    const MasterPlan& plan;
    const MasterResult& result;
    const std::vector<std::size_t>& members; ///< exposures that it was made of
    const MasterReport& report;
    std::string key;
    std::filesystem::path file;
};

/// Writes the file and its preview. Throws OutputError.
void write_master(const Session& session, const BuiltMaster& built);
/// Where the picture of a master lies.
std::filesystem::path master_preview(std::filesystem::path file);

/// What of a master may hurt, in words.
std::vector<std::string> doubts_of_master(Role role, const MasterResult& master, const MasterReport& report,
                                          const Exposure& frame);

/// Reads what an existing master says of itself; pixels of a flat need not have mean 1. Throws InputError.
ReadyMaster adopt(const Session& session, const MasterPlan& plan);
/// A master that another project made of the same frames, by its header.
std::optional<MasterReport> from_library(const Session& session, const MasterPlan& plan, const std::string& key,
                                         const std::filesystem::path& file);

} // namespace kasane
