// What a master light has to tell: of its lights, of what they were brought to, and of what was done with them. Part of
// stage 6.
#pragma once

#include <kasane/grading/small_frame.hpp>
#include <kasane/integration/integrate.hpp>
#include <kasane/integration/length_match.hpp>
#include <kasane/ledger/basis.hpp>
#include <kasane/normalization/levels.hpp>
#include <kasane/stages/grade.hpp>

#include <map>
#include <memory>
#include <string>
#include <utility>
#include <vector>

namespace kasane {

/// The frames of a stack as the integration wants them, and the lights they come from.
struct Assembly {
    std::vector<StackFrame> frames;
    std::vector<Light*> lights;
    std::vector<StackLevels> levels; ///< by plane
    std::vector<double> backgrounds; ///< of the level, by plane, ADU
    LengthMatches matches;           ///< of its lengths, where it has several
    std::uint64_t held = 0;          ///< of memory, by what the masters of its frames do, bytes
    /// Lights that are drawn, as they came, while they are read.
    std::vector<std::pair<const Light*, std::shared_ptr<SmallFrame>>> drawn;
};

/// As the report keeps them.
std::vector<RejectionReport> trials_of(const RejectionComparison& comparison);

class StackAccount {
public:
    StackAccount(const Session& session, Calibrations& calibrations, const GradedLights& graded)
        : s_(session), calibrations_(calibrations), graded_(graded) {}

    /// One light, used or not.
    FrameReport report_of(const Light& light) const;
    /// The same of those that were used, with their weights, worths and what was rejected of them. Adds up their
    /// seconds.
    std::map<const Light*, FrameReport> used(const Assembly& a, const MasterLight& master, StackReport& report) const;
    /// The fields that its lights show, with those that were left out: a panel that has none left is a hole.
    void describe_panels(const std::vector<Light>& lights, const std::map<const Light*, FrameReport>& used,
                         StackReport& report) const;
    /// All else that the master light itself does not tell.
    void describe(const Assembly& a, const MasterLight& master, StackReport& report) const;
    /// The steps that made it: as planned, of the lights that were used, and what the integration tells.
    Provenance made(const Assembly& a, const Basis& basis, const MasterLight& master, const StackReport& report,
                    const std::map<const Light*, FrameReport>& used) const;

    /// By photon transfer or header; else from the sky's own noise, where its level above the offset is known.
    double electrons_of(const Light& light) const;
    /// What calibration takes away of a light, ADU; 0 where nothing is.
    double level_without_light(const Light& light) const;

private:
    void describe_defects(const Assembly& a, StackReport& report) const;
    void describe_noise_model(const Assembly& a, StackReport& report) const;
    void describe_weights(const Assembly& a, const MasterLight& master, StackReport& report) const;

    const Session& s_;
    Calibrations& calibrations_;
    const GradedLights& graded_;
};

} // namespace kasane
