// Byte order and conversion, compiled once for every instruction set.
#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kasane/io/decode_kernel.cpp"
#include <hwy/foreach_target.h>
// The order matters: foreach_target first.
#include <hwy/highway.h>

#include <kasane/io/decode.hpp>

#include <cstdint>
#include <cstring>

HWY_BEFORE_NAMESPACE();
namespace kasane::HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

void DecodeU16(const std::byte* from, float* to, int count) {
    const hn::ScalableTag<float> d;
    const hn::Rebind<std::uint16_t, decltype(d)> d16;
    const hn::RebindToSigned<decltype(d)> di;
    const int lanes = static_cast<int>(hn::Lanes(d));
    int i = 0;
    for (; i + lanes <= count; i += lanes) {
        const auto stored =
            hn::LoadU(d16, reinterpret_cast<const std::uint16_t*>(from + 2 * static_cast<std::size_t>(i)));
        const auto swapped = hn::Or(hn::ShiftLeft<8>(stored), hn::ShiftRight<8>(stored));
        hn::StoreU(hn::ConvertTo(d, hn::PromoteTo(di, hn::Xor(swapped, hn::Set(d16, 0x8000)))), d, to + i);
    }
    for (; i < count; ++i) {
        std::uint16_t u;
        std::memcpy(&u, from + 2 * static_cast<std::size_t>(i), 2);
        to[i] = static_cast<float>(__builtin_bswap16(u) ^ 0x8000);
    }
}

void DecodeF32(const std::byte* from, float* to, int count) {
    const hn::ScalableTag<float> d;
    const hn::RebindToUnsigned<decltype(d)> du;
    const int lanes = static_cast<int>(hn::Lanes(d));
    int i = 0;
    for (; i + lanes <= count; i += lanes) {
        const auto v = hn::LoadU(du, reinterpret_cast<const std::uint32_t*>(from + 4 * static_cast<std::size_t>(i)));
        const auto halves = hn::Or(hn::ShiftLeft<16>(v), hn::ShiftRight<16>(v));
        const auto mask = hn::Set(du, 0x00ff00ffu);
        const auto swapped = hn::Or(hn::ShiftLeft<8>(hn::And(halves, mask)), hn::And(hn::ShiftRight<8>(halves), mask));
        hn::StoreU(hn::BitCast(d, swapped), d, to + i);
    }
    for (; i < count; ++i) {
        std::uint32_t u;
        std::memcpy(&u, from + 4 * static_cast<std::size_t>(i), 4);
        u = __builtin_bswap32(u);
        std::memcpy(to + i, &u, 4);
    }
}

} // namespace kasane::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace kasane {
HWY_EXPORT(DecodeU16);
HWY_EXPORT(DecodeF32);

void decode_u16(const std::byte* from, float* to, int count) {
    HWY_DYNAMIC_DISPATCH(DecodeU16)(from, to, count);
}

void decode_f32(const std::byte* from, float* to, int count) {
    HWY_DYNAMIC_DISPATCH(DecodeF32)(from, to, count);
}
} // namespace kasane
#endif
