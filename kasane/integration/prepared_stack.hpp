// What is settled of a stack before its pixels are looked at: weights, what is expected of its samples, the rejection.
#pragma once

#include <kasane/combination/combiner.hpp>
#include <kasane/integration/integrate.hpp>

#include <vector>

namespace kasane {

struct PreparedStack {
    MasterLight begun;               ///< without images: weights, expected noise, combination, account; or the failure
    std::vector<Combiner> combiners; ///< one a plane; sums are means until the end
};

/// Throws as `integrate` does.
PreparedStack prepare_stack(const std::vector<StackFrame>& frames, const Canvas& canvas,
                            const std::vector<double>& levels, const Context& context, const IntegrateOptions& options);

/// The images of a master light, without data: all zero until each pixel is written.
void make_room(MasterLight& result, const Canvas& canvas, int planes, int lengths, const Context& context);

/// Throws DataError for an empty stack, UsageError for what makes no sense.
void require_sound(const std::vector<StackFrame>& frames, const Canvas& canvas, std::size_t levels);

} // namespace kasane
