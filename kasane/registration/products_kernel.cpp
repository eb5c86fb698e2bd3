#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kasane/registration/products_kernel.cpp"
#include <hwy/foreach_target.h>
// The order matters: foreach_target first.
#include <hwy/highway.h>

#include <kasane/registration/products_kernel.hpp>

HWY_BEFORE_NAMESPACE();
namespace kasane::HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

void SubtractProducts(double a, const double* x, double b, const double* y, std::size_t count, double* to) {
    const hn::ScalableTag<double> d;
    const std::size_t lanes = hn::Lanes(d);
    const auto by_x = hn::Set(d, a), by_y = hn::Set(d, b);
    std::size_t i = 0;
    for (; i + lanes <= count; i += lanes) {
        const auto sum = hn::Add(hn::Mul(by_x, hn::LoadU(d, x + i)), hn::Mul(by_y, hn::LoadU(d, y + i)));
        hn::StoreU(hn::Sub(hn::LoadU(d, to + i), sum), d, to + i);
    }
    for (; i < count; ++i)
        to[i] -= a * x[i] + b * y[i];
}

} // namespace kasane::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace kasane {
HWY_EXPORT(SubtractProducts);

void subtract_products(double a, const double* x, double b, const double* y, std::size_t count, double* to) {
    HWY_DYNAMIC_DISPATCH(SubtractProducts)(a, x, b, y, count, to);
}
} // namespace kasane
#endif
