// One command on a folder: from raw exposures to master lights and a report, doing only what is not done yet.
//
// The room holds, beside this:
//   holdings.hpp       what is kept beside the results, and letting go of it
//   check.hpp          before the work: pairing, findings, cost; after it: what is done and stale
//   align.hpp          registration, reported
//   align_images.hpp   any images on the grid of another; onto_grid.hpp: one of them
//   compare_images.hpp images of one field judged against each other
//   comet_marks.hpp    a comet, pointed at
//   finish.hpp         master lights finished: gradients, sharpening, colour, geometry, stretch;
//                      finish_plan.hpp: which of them make one picture;
//                      master_files.hpp: master lights as they lie there
//   grade.hpp          measured, compared, judged
//   result.hpp         a finished run, looked at once more
//   watch.hpp          lights as they arrive, and master lights that grow by them
//   look.hpp           one light before and after calibration
//   export_lights.hpp, export_frames.hpp  lights for another program: as they are; calibrated, registered
//   export_masters.hpp master lights for another program, in its formats
//   export_header.hpp  what all exports have in common
//   library_versions.hpp  what this program was built upon
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

/// All but its last step: tries the rejections on each stack and makes no master lights. The stacks of the report hold
/// what each would do. Throws as run_project does.
RunReport compare_rejections(const RunOptions& options, const Context& context);

/// The first part of it: builds the masters that are missing or stale. Throws as run_project does.
RunReport build_masters(const RunOptions& options, const Context& context);

} // namespace kasane
