// One command on a folder: from raw exposures to master lights and a report, doing only what is not done yet.
#pragma once

#include <kasane/base/parallel.hpp>
#include <kasane/ledger/records.hpp>
#include <kasane/stages/options.hpp>

namespace kasane {

/// Scans, pairs, builds masters, measures, registers and integrates, and writes into the output folder:
///   masters/NAME.fits and lights/NAME.fits, with previews beside the lights.
/// Files that cannot be used are set aside with a finding. Throws UsageError (another run holds the project),
/// InputError (the folder is not one), DataError (no lights), OutputError (folder not writable, disk full), Cancelled.
RunReport run_project(const RunOptions& options, const Context& context);

} // namespace kasane
