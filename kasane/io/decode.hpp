// Stored big-endian numbers to floats, the two kinds that matter for speed.
#pragma once

#include <cstddef>

namespace kasane {

/// Unsigned 16 bit as cameras write it (signed, with BZERO 32768). `from` need not be aligned. Vectorised.
void decode_u16(const std::byte* from, float* to, int count);
/// 32-bit float as masters are written. Vectorised.
void decode_f32(const std::byte* from, float* to, int count);

} // namespace kasane
