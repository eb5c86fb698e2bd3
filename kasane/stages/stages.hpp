// The stages of the work, in order. Each takes what those above it left in the Session, and says in its header what it
// leaves; what it found out stays in the ledger, so that the next run does only what is not done.
//
//   open_project       recipe, ledger and cache; then 1 and 2
//   1 scan             folder, recipe          -> exposures with roles and nights, looks at pixels
//   2 pair             exposures               -> what goes with what: masters to build, stacks of lights
//   3 masters          calibration frames      -> masters, and what flats tell of the cameras
//   4 measure          calibrated lights       -> measures and a preview of each
//   5 grade            measures                -> reference, transforms, figures, verdicts
//   6 integrate        kept lights             -> master lights
//
// Beside them: cameras and calibrations (the calibrated view of a light), reference_groups (which stacks lie on one
// grid), results (where they lie, and whether they are as they were written), remaining_work (what is to be done
// still).
#pragma once

// clang-format off: in their order
#include <kasane/stages/grade.hpp>
#include <kasane/stages/integrate.hpp>
#include <kasane/stages/masters.hpp>
#include <kasane/stages/measure.hpp>
#include <kasane/stages/open_project.hpp>
#include <kasane/stages/options.hpp>
#include <kasane/stages/pair.hpp>
#include <kasane/stages/remaining_work.hpp>
#include <kasane/stages/scan.hpp>
#include <kasane/stages/session.hpp>
// clang-format on
