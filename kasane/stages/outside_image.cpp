#include <kasane/stages/outside_image.hpp>

#include <kasane/base/error.hpp>
#include <kasane/frames/exposure.hpp>
#include <kasane/io/input_file.hpp>
#include <kasane/stages/measure_record.hpp>

#include <fmt/format.h>

namespace fs = std::filesystem;

namespace kasane {

std::shared_ptr<const FrameView> view_of_image(const fs::path& file, PixelCache* cache) {
    const Exposure e = describe_exposure(file.string(), read_summary(file));
    CalibrationSet set;
    set.cfa = CfaPattern(e.cfa);
    auto raw = std::make_shared<const CalibratedView>(open_frame(file, cache), std::move(set));
    return std::make_shared<const FrameView>(std::move(raw), ColourMethod::adaptive);
}

std::optional<WorldCoordinates> world_of_image(const fs::path& file) {
    std::shared_ptr<const WorldCoordinates> world;
    if (attempt([&] { world = describe_exposure(file.string(), read_summary(file)).world; }) || !world)
        return std::nullopt;
    return *world;
}

fs::path outside_file(const Session& s) {
    return s.options.folder / s.recipe.registration.onto; // an absolute one stands
}

std::optional<std::string> outside_identity(const Session& s) {
    const fs::path file = outside_file(s);
    const auto stamp = file_stamp(file);
    if (!stamp) return std::nullopt;
    const std::string seen = file.lexically_normal().string() + "|" + stamp->text();
    const auto [known, fresh] = s.outside.try_emplace(seen);
    if (!fresh) return known->second;
    std::error_code failed;
    std::string content;
    if (fs::is_regular_file(file, failed) && !attempt([&] {
            read_summary(file);
            content = content_digest(file);
        }))
        known->second = "outside " + content;
    return known->second;
}

MeasureOptions many_stars() {
    MeasureOptions o;
    constexpr int kMany = 2000;
    o.kept_stars = o.detect.most = kMany;
    return o;
}

ExposureMeasures measure_image(const FrameView& view, const MemoryBudget& memory, const MeasureOptions& options) {
    const auto bytes = static_cast<std::uint64_t>(view.width()) * static_cast<std::uint64_t>(view.height()) *
                       static_cast<std::uint64_t>(view.planes() == 1 ? 5 : 13);
    if (bytes > memory.for_buffers())
        throw DataError(fmt::format("is {} x {} pixels: to measure it takes {:.1f} GB of memory, the budget is {:.1f} "
                                    "GB",
                                    view.width(), view.height(), 1e-9 * static_cast<double>(bytes),
                                    1e-9 * static_cast<double>(memory.bytes)),
                        view.path(), "Give more with --memory");
    return measure_exposure(view, options);
}

std::shared_ptr<const ExposureMeasures> measure_outside(Session& s) {
    const fs::path file = outside_file(s);
    const auto identity = outside_identity(s);
    if (!identity)
        throw InputError("cannot be read, though all lights should come onto its grid ([registration] onto)", file,
                         "Put it back, name another one, or take the line out of kasane.toml");
    const std::string key = Key("measures of an image").add(*identity, MeasureOptions{}).result();
    if (const auto known = s.ledger.fact(key))
        if (auto measures = decode_measures(*known)) return measures;
    const auto view = view_of_image(file, &s.cache);
    const std::string bytes = encode_measures(measure_image(*view, s.context.memory));
    if (outside_identity(s) != identity)
        throw InputError("was changed while it was being read", file, "Run again when it is as it should be");
    s.ledger.set_fact(key, bytes);
    return decode_measures(bytes);
}

} // namespace kasane
