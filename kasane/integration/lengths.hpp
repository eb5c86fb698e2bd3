// Frames of several lengths in one stack: which of them saturate at what brightness, and when a longer one has to leave
// a pixel to a shorter one.
//
// A saturated sample tells only that there is more light. All samples of its length leave such a pixel together where a
// shorter length has data, as soon as two of them are saturated: the rest would be those that seeing and noise left
// dark, and their mean too low. One alone, under a particle or a trail, leaves alone.
#pragma once

#include <kasane/integration/stack.hpp>

#include <vector>

namespace kasane {

/// Groups frames by the brightness of the sky at which each is full (any unit; 0: not known, then it counts as of the
/// longest): 0 the longest, full first, then 1, ... Neighbours in brightness that differ by less than a factor of 1.5
/// are of one length, as long as it reaches over less than 2.5 from end to end.
std::vector<int> lengths_of(const std::vector<double>& full_at);

/// How many lengths a stack has: one more than the highest StackFrame::length.
int count_lengths(const std::vector<StackFrame>& frames);

/// How bright a sample must be to leave, and a pixel to fade.
class LengthRules {
public:
    /// `levels`: backgrounds of the stack's level by plane, ADU.
    LengthRules(const std::vector<StackFrame>& frames, const std::vector<double>& levels);

    int count() const { return count_; }
    bool several() const { return count_ > 1; }
    /// ADU of the frame from which on its samples leave where one of their sixteen nearest pixels is saturated; below,
    /// only where one of the four nearest is. A tenth of the way from the sky to saturation, more where the noise of
    /// what is left without the frame's length is more than a fifth of it: the wings of stars stay what long frames
    /// made them.
    float bright_from(std::size_t frame, std::size_t plane) const { return bright_[frame * planes_ + plane]; }
    /// The same at the stack's level, of a length (median of its frames); infinite for the last one.
    double fades_from(int length, std::size_t plane) const {
        return fades_[static_cast<std::size_t>(length) * planes_ + plane];
    }

private:
    int count_ = 1;
    std::size_t planes_ = 0;
    std::vector<float> bright_;
    std::vector<double> fades_;
};

} // namespace kasane
