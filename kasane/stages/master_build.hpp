// One calibration master, built of as many of its frames as are good. Part of stage 3.
#pragma once

#include <kasane/ledger/basis.hpp>
#include <kasane/stages/session.hpp>

#include <cstdint>
#include <filesystem>

namespace kasane {

/// Builds a master and writes its file. Frames that cannot be read or do not serve are left out, and told in the
/// report; of these, what may be read another time is in `unread` even where it throws. The stage's progress advances
/// by master_units on the way. Throws DataError if none is left, InputError if its offset cannot be read, OutputError.
/// Several may be built at once.
ReadyMaster build_ready_master(Session& session, const MasterPlan& plan, const Basis& basis,
                               const std::filesystem::path& file, std::vector<std::string>& unread);
/// What a master counts in its stage: thousands of pixels of all its frames.
std::int64_t master_units(const Session& session, const MasterPlan& plan);

} // namespace kasane
