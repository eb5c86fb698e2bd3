// Stored big-endian numbers to floats and back, the two kinds that matter for speed.
#pragma once

#include <cstddef>
#include <cstdint>

namespace kasane {

/// Unsigned 16 bit as cameras write it (signed, with BZERO 32768). `from` need not be aligned. Vectorised.
void decode_u16(const std::byte* from, float* to, int count);
/// 32-bit float as masters are written. Vectorised.
void decode_f32(const std::byte* from, float* to, int count);
/// The other way, to the last bit; with counts from 0 on. `to` need not be aligned. Vectorised.
void encode_u16(const std::uint16_t* from, std::byte* to, int count);
void encode_f32(const float* from, std::byte* to, int count);

} // namespace kasane
