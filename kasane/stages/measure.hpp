// Stage 4: the measures of every light, from the ledger where they are known.
//
// Takes the masters; leaves a fact and a preview a light.
#pragma once

#include <kasane/grading/measures.hpp>
#include <kasane/stages/calibrations.hpp>

#include <filesystem>
#include <memory>
#include <string>
#include <vector>

namespace kasane {

/// The measures of one light, or why there are none.
struct Measured {
    std::shared_ptr<const ExposureMeasures> measures;
    std::string problem, remedy;
    bool unread = false; ///< its file could not be read, which may pass
};

/// Measures lights, from the ledger where they are known. One result a light. Leaves a preview of each in preview_file.
std::vector<Measured> measure_lights(Session& session, Calibrations& calibrations,
                                     const std::vector<const LightPlan*>& lights);
/// Where the preview of a light with this measure key lies.
std::filesystem::path preview_file(const Session& session, const std::string& measure_key);
/// Makes that of a light again, which takes measuring it. Asks no ledger. Throws InputError.
void make_preview(const Session& session, const FrameView& view, const LightPlan& light,
                  const std::string& measure_key);
std::string measure_key(const Session& session, const Calibrations& calibrations, const LightPlan& light);

} // namespace kasane
