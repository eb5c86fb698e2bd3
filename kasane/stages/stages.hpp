// The stages of the work, in order. Each takes what those above it left in the Session, and says in its header what it
// leaves; what it found out stays in the ledger, so that the next run does only what is not done.
//
//   open_project       recipe, ledger and cache; then 1 and 2
//   1 scan             folder, recipe          -> exposures with roles and nights, looks at pixels
//   2 pair             exposures               -> what goes with what: masters to build, stacks of lights
//   3 masters          calibration frames      -> masters, and what flats tell of the cameras
//   4 measure          calibrated lights       -> measures and a preview of each
//   5 grade            measures                -> reference, transforms (align), figures, verdicts
//   6 integrate        kept lights             -> master lights
//
// The room holds, beside this, the stages (scan.hpp, pair.hpp, masters.hpp, measure.hpp, grade.hpp, integrate.hpp) and
//   session.hpp           what the stages of one run share
//   options.hpp           what a caller says of a project
//   open_project.hpp      a project that was opened; every call of a program begins here
//   folder_walk.hpp       1: the files below the folders
//   masks.hpp             what of a light is no sky
//   calibrations.hpp      the calibrated view of any light
//   comet.hpp, comet_masters.hpp  where a comet is, and its master lights
//   comet_header.hpp              what headers say of it
//   lengths.hpp           what lights saturate, of which length each is
//   cameras.hpp           gain, read noise and saturation, kept from run to run
//   measure_record.hpp    4: measures, as the ledger keeps them
//   shared_frames.hpp     4: what lights share while they are measured
//   align.hpp             5: lights onto the grid of their reference, the optics of the rigs
//   align_records.hpp     5: those, as the ledger keeps them
//   master_build.hpp      3: one master, of as many frames as are good
//   master_file.hpp       3: its file, written and read
//   panels.hpp            5: do panels of like names meet, and which light shows which
//   shared_grid.hpp       5: do the sensors of a target show one sky
//   outside_image.hpp     5: an image that is no light of the project, measured like one
//   reference_groups.hpp  which stacks lie on one grid, and the reference chosen before
//   reference_choice.hpp  5: which light gives the grid, and why
//   mask_offer.hpp        5: where trees, a roof or the ground may stand
//   joint_stacks.hpp      6: which stacks become one master light
//   stack_basis.hpp       6: what a master light depends on, and whether it is there
//   drizzle_choice.hpp    6: whether the master lights of a target are drizzled
//   assemble.hpp          6: the lights of a stack as the integration wants them
//   stack_account.hpp     6: what a master light has to tell
//   group_canvas.hpp      6: the canvas of the master lights of a target
//   finished_light.hpp    6: a master light's files, and what is remembered of it
//   canvas_sky.hpp        6: where on the sky a master light lies
//   stack_levels.hpp      6: levels of stacks, fitted or known already
//   level_records.hpp     6: those, as the ledger keeps them
//   rejected_records.hpp  6: where samples of lights were rejected
//   rejected_lights.hpp   6: each of those samples, for whoever wants the lights without them
//   composites.hpp        images made of several master lights
//   defect_record.hpp     4: defective pixels as the ledger keeps them
//   light_doubts.hpp      6: what lights tell against their calibration
//   master_light.hpp      6: figures and file of a master light
//   former_light.hpp      6: the master light that another one takes the place of, as a picture
//   zero_point.hpp        6: magnitudes, where headers tell them
//   results.hpp           where results lie, and whether they are as they were written
//   remaining_work.hpp    what is to be done still
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
