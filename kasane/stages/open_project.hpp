// A project that was opened: its recipe read, its ledger open, its files scanned and paired. Every call of a program
// begins here.
#pragma once

#include <kasane/ledger/ledger.hpp>
#include <kasane/stages/scan.hpp>
#include <kasane/stages/session.hpp>

namespace kasane {

struct Opening {
    Ledger::Use use = Ledger::Use::work;
    bool look_at_pixels = true; ///< of all files whose look is not known, not only of those that say nothing
    bool verdicts = true;       ///< what was decided by hand is read
    bool previews = false;      ///< lights whose preview is gone are measured again
};

/// Stays where it is: the session refers to its other parts, and to `options` and `context`, which must outlive it.
struct OpenProject {
    /// Throws InputError if the folder is none (nothing is made there then), and as recipe, ledger, scan and pairing
    /// do.
    OpenProject(const RunOptions& options, const Context& context, const Opening& opening = {});
    OpenProject(const OpenProject&) = delete;
    OpenProject& operator=(const OpenProject&) = delete;

    const Recipe recipe;
    const std::filesystem::path output;
    Ledger ledger;
    PixelCache cache;
    RunReport report;
    Scan scan; ///< its exposures belong to the session
    Session session;

    /// The scan as it was, when the session is done with its exposures.
    Scan take_scan();
};

/// Results and pictures in places that hold files which Kasane did not write. Throws UsageError naming the first.
void require_free_places(const Session& session);
/// Temporary files of killed runs, wherever any of them may write.
void remove_all_leftovers(const Session& session);

} // namespace kasane
