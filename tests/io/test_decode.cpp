#include "support/instruction_sets.hpp"

#include <kasane/io/decode.hpp>

#include <algorithm>
#include <catch2/catch.hpp>
#include <cstdint>
#include <cstring>
#include <vector>

using namespace kasane;
using namespace kasane::test;

namespace {

/// Bytes that begin `shift` bytes off any alignment.
std::vector<std::byte> big_endian(const std::vector<std::uint32_t>& values, int size, std::size_t shift) {
    std::vector<std::byte> bytes(shift);
    for (const std::uint32_t v : values)
        for (int b = size - 1; b >= 0; --b)
            bytes.push_back(static_cast<std::byte>(v >> (8 * b)));
    return bytes;
}

} // namespace

TEST_CASE("Stored numbers are decoded exactly, from any address, for any count, on every instruction set") {
    std::vector<std::uint32_t> words(65536), floats;
    for (std::uint32_t i = 0; i < 65536; ++i) {
        words[i] = i ^ 0x8000; // signed, with BZERO 32768
        floats.push_back(i * 65537u + 12345u);
    }
    on_every_instruction_set([&] {
        for (const std::size_t shift : {0, 1, 3})
            for (const int count : {65536, 1, 7, 8, 63, 1001}) {
                const auto n = static_cast<std::size_t>(count);
                std::vector<float> out(n + 1, -1.0f);
                decode_u16(big_endian(words, 2, shift).data() + shift, out.data(), count);
                int wrong = 0;
                for (std::size_t i = 0; i < n; ++i)
                    wrong += out[i] != static_cast<float>(i);
                CHECK(wrong == 0);
                decode_f32(big_endian(floats, 4, shift).data() + shift, out.data(), count);
                CHECK(std::memcmp(out.data(), floats.data(), n * sizeof(float)) == 0);
                CHECK(out[n] == -1.0f); // nothing beyond
            }
    });
}
