// The calibrated view of any light of the session.
#pragma once

#include <kasane/calibration/calibrated_view.hpp>
#include <kasane/calibration/defects.hpp>
#include <kasane/calibration/frame_view.hpp>
#include <kasane/stages/session.hpp>

#include <array>
#include <functional>
#include <map>
#include <memory>
#include <mutex>
#include <optional>
#include <string>

namespace kasane {

/// How the mosaics of a stack's lights become planes; of no matter for others.
ColourMethod colour_method(const Session& session, const Exposure& light);

/// Calibrated views of lights, with masters and defect lists opened once.
class Calibrations {
public:
    explicit Calibrations(const Session& session) : session_(session) {}
    /// Throws InputError if the raw file or a master cannot be opened. `own`: what its measures found; `saturation` as
    /// in CalibrationSet.
    std::shared_ptr<const FrameView> view(const LightPlan& light, std::shared_ptr<const OwnCorrections> own = nullptr,
                                          double saturation = 0);
    /// Digest of what calibrates a light.
    std::string key(const LightPlan& light) const;
    /// The key of a light's measures, found once: masters and cameras stay as they are as long as this lives. Made by
    /// `make`; thread-safe.
    const std::string& measure_key_of(const LightPlan& light, const std::function<std::string()>& make) const;
    /// Of the sensor that took a light, by its masters and the recipe.
    const DefectCounts& defect_counts(const LightPlan& light) const;
    /// How much of its dark a light takes: as planned, or as measured in the light itself. Empty reason: as planned.
    struct DarkShare {
        double factor = 1, second_share = 0;
        std::string reason;
    };
    DarkShare dark_share(const LightPlan& light);

private:
    const ReadyMaster* ready(const std::optional<std::size_t>& master) const;
    std::shared_ptr<const FrameReader> reader(std::size_t master);
    /// Defects by the masters that show them: dark (or bias) and flat.
    struct SensorDefects {
        std::shared_ptr<const DefectList> list;
        DefectCounts counts;
    };
    /// Those masters, and the sensor's size: lights without masters have only it in common.
    using DefectKey = std::array<std::size_t, 4>;
    DefectKey defect_key(const LightPlan& light) const;
    std::shared_ptr<const DefectList> defects(const LightPlan& light);
    void add_marked(Mask& mask) const;

    const Session& session_;
    std::map<std::size_t, std::shared_ptr<const FrameReader>> readers_;
    std::map<DefectKey, SensorDefects> defects_;
    mutable std::mutex keys_mutex_;
    mutable std::map<std::size_t, std::string> measure_keys_; ///< by exposure
};

} // namespace kasane
