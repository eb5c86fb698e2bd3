// Any bytes as a FITS file: header, layout, region reads.
#include "image_input.hpp"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    kasane::fuzz::read_as_file(data, size, ".fits");
    return 0;
}
