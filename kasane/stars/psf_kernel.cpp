// The vectorised sums of the PSF fit, compiled once for every instruction set; psf_sums.cpp holds the scalar reference.
#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kasane/stars/psf_kernel.cpp"
#include <hwy/foreach_target.h>
// The order matters: foreach_target first.
#include <hwy/contrib/math/math-inl.h>
#include <hwy/highway.h>

#include <kasane/stars/psf_sums.hpp>

HWY_BEFORE_NAMESPACE();
namespace kasane::HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

PsfSums Sum(const PsfPixels& pixels, const PsfParameters& p) {
    const hn::CappedTag<float, kPsfBlock> d;
    using V = hn::Vec<decltype(d)>;
    const auto set = [&](double v) { return hn::Set(d, static_cast<float>(v)); };
    const V amplitude = set(p[0]), x0 = set(p[1]), y0 = set(p[2]), xx = set(p[3]), xy = set(p[4]), yy = set(p[5]),
            background = set(p[6]), gamma = set(p[7]), per_gamma = set(-1 / p[7]), per_gamma2 = set(1 / (p[7] * p[7])),
            per_amplitude = set(1 / p[0]), one = set(1), two = set(2);
    V chi2 = hn::Zero(d), gradient[kPsfParameters], matrix[kPsfParameters][kPsfParameters];
    for (std::size_t i = 0; i < kPsfParameters; ++i) {
        gradient[i] = hn::Zero(d);
        for (std::size_t j = i; j < kPsfParameters; ++j)
            matrix[i][j] = hn::Zero(d);
    }
    for (std::size_t k = 0; k < pixels.count; k += hn::Lanes(d)) {
        const V dx = hn::Sub(hn::LoadU(d, pixels.x + k), x0), dy = hn::Sub(hn::LoadU(d, pixels.y + k), y0);
        const V weight = hn::LoadU(d, pixels.weight + k);
        const V along_x = hn::MulAdd(xx, dx, hn::Mul(xy, dy)), along_y = hn::MulAdd(xy, dx, hn::Mul(yy, dy));
        const V base = hn::MulAdd(gamma, hn::MulAdd(along_x, dx, hn::Mul(along_y, dy)), one);
        const V log_base = hn::Log(d, base);
        const V model = hn::Mul(amplitude, hn::Exp(d, hn::Mul(log_base, per_gamma)));
        const V residual = hn::Sub(hn::Sub(hn::LoadU(d, pixels.value + k), background), model);
        const V slope = hn::Div(model, base); // minus the derivative by q
        const V slope2 = hn::Mul(two, slope), minus = hn::Neg(slope);
        const V by[kPsfParameters] = {
            hn::Mul(model, per_amplitude),
            hn::Mul(slope2, along_x),
            hn::Mul(slope2, along_y),
            hn::Mul(minus, hn::Mul(dx, dx)),
            hn::Mul(hn::Neg(slope2), hn::Mul(dx, dy)),
            hn::Mul(minus, hn::Mul(dy, dy)),
            one,
            hn::Mul(per_gamma2, hn::Sub(hn::Mul(model, log_base), hn::Mul(slope, hn::Sub(base, one)))),
        };
        chi2 = hn::MulAdd(hn::Mul(weight, residual), residual, chi2);
        for (std::size_t i = 0; i < kPsfParameters; ++i) {
            const V weighed = hn::Mul(weight, by[i]);
            gradient[i] = hn::MulAdd(weighed, residual, gradient[i]);
            for (std::size_t j = i; j < kPsfParameters; ++j)
                matrix[i][j] = hn::MulAdd(weighed, by[j], matrix[i][j]);
        }
    }
    const auto sum = [&](V v) { return static_cast<double>(hn::GetLane(hn::SumOfLanes(d, v))); };
    PsfSums out;
    out.chi2 = sum(chi2);
    for (std::size_t i = 0; i < kPsfParameters; ++i) {
        out.gradient[i] = sum(gradient[i]);
        for (std::size_t j = i; j < kPsfParameters; ++j)
            out.matrix[i][j] = out.matrix[j][i] = sum(matrix[i][j]);
    }
    return out;
}

} // namespace kasane::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace kasane {
HWY_EXPORT(Sum);

PsfSums psf_sums(const PsfPixels& pixels, const PsfParameters& parameters) {
    return HWY_DYNAMIC_DISPATCH(Sum)(pixels, parameters);
}
} // namespace kasane
#endif
