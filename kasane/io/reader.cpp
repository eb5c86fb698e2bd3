#include <kasane/io/reader.hpp>

#include <kasane/io/fits.hpp>

#include <algorithm>
#include <string>

namespace kasane {

bool is_readable_name(const std::filesystem::path& file) {
    std::string extension = file.extension().string();
    std::transform(extension.begin(), extension.end(), extension.begin(),
                   [](unsigned char c) { return std::tolower(c); });
    return extension == ".fits" || extension == ".fit" || extension == ".fts";
}

std::unique_ptr<FrameReader> open_frame(const std::filesystem::path& file) {
    return open_fits(file);
}

Image read_plane(const FrameReader& reader, int plane) {
    Image image(reader.width(), reader.height());
    reader.read(reader.bounds(), image.plane(), plane);
    return image;
}

} // namespace kasane
