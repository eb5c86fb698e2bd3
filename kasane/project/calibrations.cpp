// Opening what calibrates a light.
#include <kasane/project/session.hpp>

#include <kasane/base/hash.hpp>
#include <kasane/io/reader.hpp>

namespace kasane {

namespace {
constexpr std::size_t kNone = static_cast<std::size_t>(-1);
}

const ReadyMaster* Calibrations::ready(const std::optional<std::size_t>& master) const {
    return master && session_.masters[*master] ? &*session_.masters[*master] : nullptr;
}

std::string Calibrations::key(const LightPlan& light) const {
    Digester d;
    for (const auto& m : {light.dark, light.flat})
        d.add(ready(m) ? ready(m)->key : "none");
    return d.result();
}

std::shared_ptr<const FrameReader> Calibrations::reader(std::size_t master) {
    auto& r = readers_[master];
    if (!r) r = open_frame(session_.masters[master]->file);
    return r;
}

std::shared_ptr<const DefectList> Calibrations::defects(const LightPlan& light) {
    const bool has_dark = ready(light.dark), has_flat = ready(light.flat);
    auto& list = defects_[{has_dark ? *light.dark : kNone, has_flat ? *light.flat : kNone}];
    if (!list)
        list = std::make_shared<const DefectList>(find_defects(has_dark ? reader(*light.dark).get() : nullptr,
                                                               has_dark ? ready(light.dark)->report.frame_noise : 0,
                                                               has_flat ? reader(*light.flat).get() : nullptr));
    return list;
}

std::shared_ptr<const CalibratedView> Calibrations::view(const LightPlan& light) {
    CalibrationSet set;
    if (ready(light.dark)) set.dark = reader(*light.dark);
    if (ready(light.flat)) {
        set.flat = reader(*light.flat);
        if (session_.pairing.masters[*light.flat].existing && ready(light.flat)->report.level > 0)
            set.flat_level = static_cast<float>(ready(light.flat)->report.level);
    }
    if (set.dark || set.flat) set.defects = defects(light);
    return std::make_shared<const CalibratedView>(open_frame(session_.path_of(light.exposure)), std::move(set));
}

} // namespace kasane
