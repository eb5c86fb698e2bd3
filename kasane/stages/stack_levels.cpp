#include <kasane/stages/stack_levels.hpp>

#include <kasane/ledger/codec.hpp>
#include <kasane/ledger/keys.hpp>
#include <kasane/stages/level_records.hpp>

#include <utility>

namespace kasane {

StackLevels levels_of_stack(Session& s, const std::vector<LevelInput>& inputs, const std::vector<std::string>& sources,
                            std::size_t plane, const Canvas& canvas, const LevelOptions& options) {
    Writer places; // as they are seen from the canvas
    for (const LevelInput& input : inputs) {
        put(places, input.to_frame);
        places.put(input.seconds).put(input.width).put(input.height);
    }
    const std::string key =
        Key("levels of a stack").add(sources, plane, canvas.width, canvas.height, options, places.bytes).result();
    if (const auto bytes = s.ledger.fact(key))
        if (auto known = decode_levels(*bytes); known && known->maps.size() == inputs.size()) return std::move(*known);
    StackLevels fitted = fit_stack_levels(inputs, canvas, s.context.workers, options);
    s.ledger.set_fact(key, encode(fitted));
    return fitted;
}

} // namespace kasane
