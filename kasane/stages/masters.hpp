// Stage 3: calibration masters, built or found again.
//
// Takes the pairing; leaves Session::masters, their files and facts, and the cameras.
#pragma once

#include <kasane/ledger/basis.hpp>
#include <kasane/stages/session.hpp>

#include <cstddef>
#include <optional>
#include <string>
#include <vector>

namespace kasane {

/// What is made with a master is keyed by this: its own key, and the files that it lacks, if any. Once it is whole, all
/// of it is made again.
std::string effective_key(const std::string& key, const MasterReport& report);
Basis master_basis(const Session& session, const MasterPlan& plan);
/// Masters in the order in which they can be made, those that lights need.
std::vector<std::size_t> needed_masters(const Pairing& pairing);
/// The same of all that can be built, whether lights need them or not.
std::vector<std::size_t> all_masters(const Pairing& pairing);
/// The report of a master that is on disk as its basis wants it. Adopted masters are always there.
std::optional<MasterReport> finished_master(const Session& session, const MasterPlan& plan, const std::string& key);

/// Why a master could not be made of the files as they are; nothing if it was not tried, or may succeed now.
std::optional<std::string> failed_master(const Session& session, const std::string& key);

/// Builds or finds all masters that the pairing needs, and settles what they tell of the cameras.
void make_masters(Session& session);
/// Those of `order` (indices into the pairing's), what others need first.
void make_masters(Session& session, const std::vector<std::size_t>& order);

} // namespace kasane
