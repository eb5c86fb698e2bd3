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

/// Turns words of four bytes round, from and to any place.
void TurnWords(const std::byte* from, std::byte* to, int count) {
    const hn::ScalableTag<std::uint32_t> du;
    const int lanes = static_cast<int>(hn::Lanes(du));
    int i = 0;
    for (; i + lanes <= count; i += lanes) {
        const std::size_t at = 4 * static_cast<std::size_t>(i);
        const auto v = hn::LoadU(du, reinterpret_cast<const std::uint32_t*>(from + at));
        const auto halves = hn::Or(hn::ShiftLeft<16>(v), hn::ShiftRight<16>(v));
        const auto mask = hn::Set(du, 0x00ff00ffu);
        const auto swapped = hn::Or(hn::ShiftLeft<8>(hn::And(halves, mask)), hn::And(hn::ShiftRight<8>(halves), mask));
        hn::StoreU(swapped, du, reinterpret_cast<std::uint32_t*>(to + at));
    }
    for (; i < count; ++i) {
        const std::size_t at = 4 * static_cast<std::size_t>(i);
        std::uint32_t u;
        std::memcpy(&u, from + at, 4);
        u = __builtin_bswap32(u);
        std::memcpy(to + at, &u, 4);
    }
}

void EncodeU16(const std::uint16_t* from, std::byte* to, int count) {
    const hn::ScalableTag<std::uint16_t> d;
    const int lanes = static_cast<int>(hn::Lanes(d));
    int i = 0;
    for (; i + lanes <= count; i += lanes) {
        const auto v = hn::Xor(hn::LoadU(d, from + i), hn::Set(d, 0x8000));
        hn::StoreU(hn::Or(hn::ShiftLeft<8>(v), hn::ShiftRight<8>(v)), d,
                   reinterpret_cast<std::uint16_t*>(to + 2 * static_cast<std::size_t>(i)));
    }
    for (; i < count; ++i) {
        const std::uint16_t u = __builtin_bswap16(static_cast<std::uint16_t>(from[i] ^ 0x8000));
        std::memcpy(to + 2 * static_cast<std::size_t>(i), &u, 2);
    }
}

} // namespace kasane::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace kasane {
HWY_EXPORT(DecodeU16);
HWY_EXPORT(TurnWords);
HWY_EXPORT(EncodeU16);

void decode_u16(const std::byte* from, float* to, int count) {
    HWY_DYNAMIC_DISPATCH(DecodeU16)(from, to, count);
}

void decode_f32(const std::byte* from, float* to, int count) {
    HWY_DYNAMIC_DISPATCH(TurnWords)(from, reinterpret_cast<std::byte*>(to), count);
}

void encode_f32(const float* from, std::byte* to, int count) {
    HWY_DYNAMIC_DISPATCH(TurnWords)(reinterpret_cast<const std::byte*>(from), to, count);
}

void encode_u16(const std::uint16_t* from, std::byte* to, int count) {
    HWY_DYNAMIC_DISPATCH(EncodeU16)(from, to, count);
}
} // namespace kasane
#endif
