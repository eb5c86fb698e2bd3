#include <kasane/io/reader.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/hash.hpp>
#include <kasane/io/fits.hpp>
#include <kasane/io/formats.hpp>
#include <kasane/io/pixel_cache.hpp>

#include <algorithm>
#include <array>
#include <fmt/format.h>
#include <fstream>
#include <mutex>
#include <string>

namespace fs = std::filesystem;

namespace kasane {

namespace {

std::string lower_extension(const fs::path& file) {
    std::string extension = file.extension().string();
    std::transform(extension.begin(), extension.end(), extension.begin(),
                   [](unsigned char c) { return std::tolower(c); });
    return extension;
}

bool is_one_of(const std::string& text, std::initializer_list<std::string_view> list) {
    return std::find(list.begin(), list.end(), text) != list.end();
}

bool is_fits_name(const fs::path& file) {
    const std::string extension = lower_extension(file);
    if (extension == ".gz" || extension == ".fz") return is_fits_name(file.stem()) || extension == ".fz";
    return is_one_of(extension, {".fits", ".fit", ".fts", ".fz"});
}

/// The format of a file: by its first bytes; TIFF structures are told from camera raw by the name.
Format find_format(const fs::path& file) {
    if (is_fits_name(file)) return Format::fits; // with the better messages of that reader
    std::error_code unknown;
    if (const auto kind = fs::status(file, unknown).type();
        !unknown && kind != fs::file_type::regular && kind != fs::file_type::directory)
        throw InputError("is not a file", file, "Name an image"); // a pipe would be waited for without end
    std::array<char, 8> head{};
    std::error_code failed;
    if (fs::is_directory(file, failed))
        throw InputError("is a folder, though its name is that of an image", file, "Rename or remove it");
    std::ifstream in(file, std::ios::binary);
    if (!in) throw InputError("cannot be opened", file, "Check that the file exists and may be read");
    in.read(head.data(), head.size());
    if (in.gcount() == 0) throw InputError("is empty", file, "Copy it again from the camera, or remove it");
    const std::string_view bytes(head.data(), static_cast<std::size_t>(in.gcount()));
    if (bytes.starts_with("SIMPLE")) return Format::fits;
    if (is_camera_raw_name(file)) return Format::camera_raw;
    if (bytes.starts_with("\x89PNG")) return Format::png;
    if (bytes.starts_with("\xff\xd8")) return Format::jpeg;
    if (bytes.starts_with("II*") || bytes.starts_with("MM") || bytes.starts_with("II+")) return Format::tiff;
    throw InputError("holds no image of a known format (FITS, TIFF, PNG, JPEG, camera raw)", file,
                     "Copy it again from the camera, or remove it");
}

/// Decodes at the first read; several threads wait for one.
class DecodedFrame final : public FrameReader {
public:
    DecodedFrame(fs::path file, FrameSummary summary, std::function<Decoded()> decode, PixelCache* cache)
        : path_(std::move(file)), summary_(std::move(summary)), decode_(std::move(decode)), cache_(cache) {}

    const fs::path& path() const override { return path_; }
    const Header& header() const override { return summary_.header; }
    int width() const override { return summary_.width; }
    int height() const override { return summary_.height; }
    int planes() const override { return summary_.planes; }

    void read(const Region& region, View<float> out, int plane) const override {
        if (!bounds().contains(region) || plane < 0 || plane >= planes())
            throw UsageError(fmt::format("region {}x{}+{}+{} of plane {} lies outside the image", region.width,
                                         region.height, region.x, region.y, plane),
                             path_, {});
        std::call_once(once_, [&] { load(); });
        const Region below{region.x, region.y + plane * height(), region.width, region.height};
        if (stored_) return stored_->read(below, out);
        for (int y = 0; y < region.height; ++y) {
            if (kept_.floats.empty()) {
                const std::uint16_t* from = kept_.counts.plane().row(below.y + y) + region.x;
                std::transform(from, from + region.width, out.row(y), [](auto v) { return static_cast<float>(v); });
            } else {
                std::copy_n(kept_.floats.plane().row(below.y + y) + region.x, region.width, out.row(y));
            }
        }
    }
    void release() const override {
        if (stored_) stored_->release();
    }
    std::uint64_t mapped_bytes(const Region& region) const override {
        return static_cast<std::uint64_t>(region.height) * static_cast<std::uint64_t>(width()) * 4;
    }

private:
    /// Of the content, as far as its fingerprint tells, and of the time of its last change.
    std::string key() const {
        std::error_code failed;
        const auto changed = fs::last_write_time(path_, failed).time_since_epoch().count();
        return digest(fmt::format("{} {}", fingerprint(path_), changed));
    }

    void load() const {
        const auto checked = [&] {
            Decoded d = decode_();
            const bool counts = d.floats.empty();
            const int w = counts ? d.counts.width() : d.floats.width(),
                      h = counts ? d.counts.height() : d.floats.height();
            if (w != width() || h != height() * planes())
                throw InputError("does not hold the pixels that its header promises", path_,
                                 "Copy it again from the camera, or remove it");
            return d;
        };
        if (cache_)
            stored_ = cache_->get(key(), checked, kept_);
        else
            kept_ = checked();
    }

    fs::path path_;
    FrameSummary summary_;
    std::function<Decoded()> decode_;
    PixelCache* cache_;
    mutable std::once_flag once_;
    mutable std::unique_ptr<FrameReader> stored_;
    mutable Decoded kept_;
};

class TurnedFrame final : public FrameReader {
public:
    TurnedFrame(std::unique_ptr<FrameReader> frame, int degrees) : frame_(std::move(frame)), degrees_(degrees) {}
    const fs::path& path() const override { return frame_->path(); }
    const Header& header() const override { return frame_->header(); }
    int width() const override { return degrees_ == 180 ? frame_->width() : frame_->height(); }
    int height() const override { return degrees_ == 180 ? frame_->height() : frame_->width(); }
    int planes() const override { return frame_->planes(); }
    void read(const Region& r, View<float> out, int plane) const override {
        const int w = frame_->width(), h = frame_->height();
        // Where the rectangle comes from: clockwise by 90, (x, y) was at (y, h - 1 - x).
        const Region from = degrees_ == 180  ? Region{w - r.right(), h - r.bottom(), r.width, r.height}
                            : degrees_ == 90 ? Region{r.y, h - r.right(), r.height, r.width}
                                             : Region{w - r.bottom(), r.x, r.height, r.width};
        Image part(from.width, from.height);
        frame_->read(from, part.plane(), plane);
        for (int y = 0; y < r.height; ++y)
            for (int x = 0; x < r.width; ++x)
                out(x, y) = degrees_ == 180  ? part(r.width - 1 - x, r.height - 1 - y)
                            : degrees_ == 90 ? part(y, r.width - 1 - x)
                                             : part(r.height - 1 - y, x);
    }
    void release() const override { frame_->release(); }
    void in_passing() const override { frame_->in_passing(); }
    std::uint64_t mapped_bytes(const Region& r) const override {
        return degrees_ == 180 ? frame_->mapped_bytes(r) : frame_->mapped_bytes({0, 0, r.height, r.width});
    }
    std::string check_sums() const override { return frame_->check_sums(); }
    std::unique_ptr<SumCheck> sum_check() const override { return frame_->sum_check(); }

private:
    std::unique_ptr<FrameReader> frame_;
    int degrees_;
};

} // namespace

std::string_view format_name(Format format) {
    constexpr std::array<std::string_view, 5> kNames = {"FITS", "TIFF", "PNG", "JPEG", "camera raw"};
    return kNames.at(static_cast<std::size_t>(format));
}

void require_plausible_size(const fs::path& file, std::int64_t width, std::int64_t height, std::int64_t planes) {
    const bool sides =
        width >= 1 && height >= 1 && planes >= 1 && width <= kLargestSide && height <= kLargestSide && planes <= 16;
    if (!sides || width * height * planes > kMostSamples)
        throw InputError(fmt::format("its header gives a size of {} x {} x {} pixels", width, height, planes), file,
                         "The header is damaged; copy the file again");
}

bool is_readable_name(const fs::path& file) {
    return is_fits_name(file) || is_one_of(lower_extension(file), {".tif", ".tiff", ".png", ".jpg", ".jpeg"}) ||
           is_camera_raw_name(file);
}

std::unique_ptr<FrameReader> open_decoded(const fs::path& file, FrameSummary summary, std::function<Decoded()> decode,
                                          PixelCache* cache) {
    return std::make_unique<DecodedFrame>(file, std::move(summary), std::move(decode), cache);
}

FrameSummary read_summary(const fs::path& file) {
    switch (find_format(file)) {
    case Format::fits:
        return read_fits_summary(file);
    case Format::tiff:
        return tiff_summary(file);
    case Format::png:
        return png_summary(file);
    case Format::jpeg:
        return jpeg_summary(file);
    case Format::camera_raw:
        break;
    }
    return camera_raw_summary(file);
}

std::unique_ptr<FrameReader> open_frame(const fs::path& file, PixelCache* cache) {
    switch (find_format(file)) {
    case Format::fits:
        return open_fits(file, cache);
    case Format::tiff:
        return open_tiff(file, cache);
    case Format::png:
        return open_decoded(
            file, png_summary(file), [file] { return decode_png(file); }, cache);
    case Format::jpeg:
        return open_decoded(
            file, jpeg_summary(file), [file] { return decode_jpeg(file); }, cache);
    case Format::camera_raw:
        break;
    }
    return open_decoded(
        file, camera_raw_summary(file), [file] { return decode_camera_raw(file); }, cache);
}

std::unique_ptr<FrameReader> turned_frame(std::unique_ptr<FrameReader> frame, int degrees_clockwise) {
    if (degrees_clockwise == 0) return frame;
    if (degrees_clockwise != 90 && degrees_clockwise != 180 && degrees_clockwise != 270)
        throw UsageError(fmt::format("a frame cannot be turned by {} degrees", degrees_clockwise), frame->path(),
                         "Use 90, 180 or 270");
    return std::make_unique<TurnedFrame>(std::move(frame), degrees_clockwise);
}

Image read_plane(const FrameReader& reader, int plane) {
    Image image(reader.width(), reader.height());
    reader.read(reader.bounds(), image.plane(), plane);
    return image;
}

} // namespace kasane
