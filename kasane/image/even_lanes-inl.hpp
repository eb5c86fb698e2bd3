// Positions that lie evenly, a vector of them at a time. Included by kernels, once for every instruction set, between
// foreach_target.h and their own code.
#if defined(KASANE_IMAGE_EVEN_LANES_INL_HPP) == defined(HWY_TARGET_TOGGLE)
#ifdef KASANE_IMAGE_EVEN_LANES_INL_HPP
#undef KASANE_IMAGE_EVEN_LANES_INL_HPP
#else
#define KASANE_IMAGE_EVEN_LANES_INL_HPP
#endif

#include <cstdint>
#include <hwy/highway.h>

HWY_BEFORE_NAMESPACE();
namespace kasane::HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

/// Whole pixels from an origin on, and the fractions behind (24 bits of them), of positions in units of 2^-32 pixels
/// that all grow by the same step. D: of the whole pixels.
template <class D>
class EvenLanes {
    using DU = hn::RebindToUnsigned<D>;
    using DF = hn::RebindToFloat<D>;

public:
    /// `start`: one for each lane.
    HWY_INLINE EvenLanes(D d, const std::int64_t* start, std::int64_t step, int origin) {
        HWY_ALIGN std::int32_t whole[HWY_MAX_BYTES / sizeof(std::int32_t)];
        HWY_ALIGN std::uint32_t behind[HWY_MAX_BYTES / sizeof(std::uint32_t)];
        for (std::size_t k = 0; k < hn::Lanes(d); ++k) {
            whole[k] = static_cast<std::int32_t>(start[k] >> 32) - origin;
            behind[k] = static_cast<std::uint32_t>(start[k]);
        }
        above_ = hn::Load(d, whole);
        below_ = hn::Load(DU(), behind);
        step_below_ = hn::Set(DU(), static_cast<std::uint32_t>(step));
        const auto step_above = static_cast<std::int32_t>(step >> 32);
        without_ = hn::Set(d, step_above);
        with_carry_ = hn::Set(d, step_above + 1);
    }

    HWY_INLINE hn::Vec<D> whole() const { return above_; }
    HWY_INLINE hn::Vec<DF> fraction() const {
        const auto half = hn::BitCast(D(), hn::ShiftRight<1>(below_)); // which fits into a signed one
        return hn::Mul(hn::ConvertTo(DF(), half), hn::Set(DF(), 0x1p-31f));
    }
    HWY_INLINE void next() {
        below_ = hn::Add(below_, step_below_);
        const auto carries = hn::RebindMask(D(), hn::Gt(step_below_, below_));
        above_ = hn::Add(above_, hn::IfThenElse(carries, with_carry_, without_));
    }

private:
    hn::Vec<D> above_, without_, with_carry_;
    hn::Vec<DU> below_, step_below_;
};

} // namespace kasane::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#endif
