// Any bytes as a TIFF file: directory, EXIF, strips and tiles.
#include "image_input.hpp"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    kasane::fuzz::read_as_file(data, size, ".tif");
    return 0;
}
