// The sum of bytes by their place in a word, compiled once for every instruction set.
#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kasane/io/fits_checksum_kernel.cpp"
#include <hwy/foreach_target.h>
// The order matters: foreach_target first.
#include <hwy/highway.h>

#include <kasane/io/fits_checksum.hpp>

#include <cstdint>

HWY_BEFORE_NAMESPACE();
namespace kasane::HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

/// Of as many words as make whole vectors; returns how many bytes these are.
std::size_t SumBytes(std::span<const std::byte> bytes, ByteSums& sums) {
    const hn::ScalableTag<std::uint32_t> d;
    const std::size_t lanes = hn::Lanes(d), step = 4 * lanes;
    constexpr std::size_t kOften = 256; // of so many bytes sixteen bits hold the sum
    const auto mask = hn::Set(d, 0x00ff00ffu);
    HWY_ALIGN std::uint32_t even_of[HWY_MAX_BYTES / 4], odd_of[HWY_MAX_BYTES / 4];
    std::size_t at = 0;
    while (at + step <= bytes.size()) {
        auto even = hn::Zero(d), odd = hn::Zero(d);
        for (std::size_t k = 0; k < kOften && at + step <= bytes.size(); ++k, at += step) {
            const auto words = hn::LoadU(d, reinterpret_cast<const std::uint32_t*>(bytes.data() + at));
            even = hn::Add(even, hn::And(words, mask));
            odd = hn::Add(odd, hn::And(hn::ShiftRight<8>(words), mask));
        }
        hn::Store(even, d, even_of);
        hn::Store(odd, d, odd_of);
        for (std::size_t i = 0; i < lanes; ++i) { // as they lie in memory, lowest first
            sums[0] += even_of[i] & 0xffff;
            sums[1] += odd_of[i] & 0xffff;
            sums[2] += even_of[i] >> 16;
            sums[3] += odd_of[i] >> 16;
        }
    }
    return at;
}

} // namespace kasane::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace kasane {
HWY_EXPORT(SumBytes);

std::size_t sum_bytes(std::span<const std::byte> bytes, ByteSums& sums) {
    return HWY_DYNAMIC_DISPATCH(SumBytes)(bytes, sums);
}
} // namespace kasane
#endif
