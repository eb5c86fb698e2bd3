#include <kasane/io/colour_profile.hpp>

#include <kasane/base/error.hpp>

#include <lcms2.h>
#include <memory>

namespace kasane {

namespace {

struct Free {
    void operator()(cmsToneCurve* c) const { cmsFreeToneCurve(c); }
    void operator()(void* profile) const { cmsCloseProfile(profile); }
};

cmsToneCurve* curve_of(ToneCurve curve) {
    if (curve == ToneCurve::linear) return cmsBuildGamma(nullptr, 1.0);
    const cmsFloat64Number srgb[] = {2.4, 1 / 1.055, 0.055 / 1.055, 1 / 12.92, 0.04045};
    return cmsBuildParametricToneCurve(nullptr, 4, srgb);
}

} // namespace

std::string colour_profile(int planes, ToneCurve kind) {
    const std::unique_ptr<cmsToneCurve, Free> curve(curve_of(kind));
    const cmsCIExyY d65 = {0.3127, 0.3290, 1};
    const cmsCIExyYTRIPLE primaries = {{0.64, 0.33, 1}, {0.30, 0.60, 1}, {0.15, 0.06, 1}};
    cmsToneCurve* curves[] = {curve.get(), curve.get(), curve.get()};
    const std::unique_ptr<void, Free> profile(planes == 3 ? cmsCreateRGBProfile(&d65, &primaries, curves)
                                                          : cmsCreateGrayProfile(cmsD50_xyY(), curve.get()));
    std::string out;
    cmsUInt32Number size = 0;
    if (profile && cmsSaveProfileToMem(profile.get(), nullptr, &size)) {
        out.resize(size);
        if (!cmsSaveProfileToMem(profile.get(), out.data(), &size)) out.clear();
    }
    constexpr std::size_t kDate = 24, kDateEnd = 36;
    if (out.size() < kDateEnd) throw OutputError("the colour profile could not be made", {}, {});
    // The date of creation (ICC.1:2010, 7.2.8) is now, otherwise.
    const char date[] = {0x07, static_cast<char>(0xd0), 0, 1, 0, 1, 0, 0, 0, 0, 0, 0};
    out.replace(kDate, sizeof date, date, sizeof date);
    return out;
}

} // namespace kasane
