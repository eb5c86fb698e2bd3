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
    if (ready(light.bias)) d.add(ready(light.bias)->key).add(light.dark_scale);
    if (light.offset_level && !ready(light.dark)) d.add("offset").add(*light.offset_level);
    return d.result();
}

std::shared_ptr<const FrameReader> Calibrations::reader(std::size_t master) {
    auto& r = readers_[master];
    const MasterPlan& plan = session_.pairing.masters[master];
    if (!r) r = plan.existing ? session_.open(plan.members.front()) : open_frame(session_.masters[master]->file);
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
    if (ready(light.dark) && ready(light.bias)) {
        set.bias = reader(*light.bias);
        set.dark_scale = static_cast<float>(light.dark_scale);
    }
    if (!set.dark && light.offset_level) set.offset_level = static_cast<float>(*light.offset_level);
    if (ready(light.flat)) {
        set.flat = reader(*light.flat);
        if (session_.pairing.masters[*light.flat].existing && ready(light.flat)->report.level > 0)
            set.flat_level = static_cast<float>(ready(light.flat)->report.level);
    }
    if (set.dark || set.flat) set.defects = defects(light);
    return std::make_shared<const CalibratedView>(session_.open(light.exposure), std::move(set));
}

} // namespace kasane
