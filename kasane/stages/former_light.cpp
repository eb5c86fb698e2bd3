#include <kasane/stages/former_light.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/output_file.hpp>
#include <kasane/image/binning.hpp>
#include <kasane/image/statistics.hpp>
#include <kasane/image/stretch.hpp>
#include <kasane/io/png.hpp>
#include <kasane/io/reader.hpp>
#include <kasane/ledger/record_json.hpp>
#include <kasane/stages/master_light.hpp>
#include <kasane/stages/results.hpp>

#include <algorithm>
#include <optional>

namespace fs = std::filesystem;

namespace kasane {

namespace {

constexpr int kMost = 1600; // pixels of the longer side

bool on_the_same_grid(const Header& old, const FrameReader& reader, const StackReport& report,
                      const MasterLight& master, const Canvas& canvas) {
    if (reader.width() != master.pixels.width() || reader.height() != master.pixels.height() ||
        reader.planes() != master.pixels.planes() || old.text("REFPRINT") != report.reference_fingerprint)
        return false;
    Header now;
    describe_canvas(canvas, now);
    const auto same = [&](const char* card) { return old.number(card) == now.number(card); };
    return same("CNVORGX") && same("CNVORGY") && same("CNVTURN") && same("CNVMIRR") && same("SCALED");
}

/// Averaged down by a whole factor, a band of the file at a time.
Image small_image(const FrameReader& reader) {
    const int factor = std::max(1, (std::max(reader.width(), reader.height()) + kMost - 1) / kMost);
    Image out(reader.width() / factor, reader.height() / factor, reader.planes());
    Image band(reader.width(), factor);
    for (int p = 0; p < out.planes(); ++p)
        for (int y = 0; y < out.height(); ++y) {
            reader.read({0, y * factor, reader.width(), factor}, band.plane(), p);
            average_down(band.plane(), factor, out.plane(p).crop({0, y, out.width(), 1}));
        }
    reader.release();
    return out;
}

float sky_of(View<const float> plane) {
    constexpr std::size_t kSample = 400000;
    std::vector<float> values = sample_pixels(plane, kSample);
    return values.empty() ? 0.0f : clipped_statistics(values, 2.5f).location;
}

Raster<std::uint8_t> drawn_alike(const Image& old, const MasterLight& master, const StackReport& report) {
    std::vector<Stretch> stretches = choose_stretches(master.pixels, report.channel_scales);
    for (int p = 0; p < old.planes(); ++p) {
        Stretch& s = stretches[static_cast<std::size_t>(p)];
        const float off = sky_of(old.plane(p)) - sky_of(master.pixels.plane(p));
        s.black += off, s.white += off;
    }
    return render_planes(old, stretches, kMost);
}

} // namespace

FormerReport keep_former(const Session& session, const StackReport& report, const std::string& key,
                         const MasterLight& master, const Canvas& canvas) {
    if (session.options.preview) return {};
    // Among what is remembered: what a run leaves with its results does not tell what was there before.
    const fs::path place =
        memory_folder(session.options) / "former" / fs::path(report.file).filename().replace_extension(".png");
    const std::string choice = "former/" + report.file;
    if (const auto kept = session.ledger.choice(choice)) {
        FormerReport known;
        const auto failure = attempt([&] {
            const auto j = nlohmann::json::parse(*kept);
            if (j.at("for") == key) known = j.at("former");
        });
        if (!failure && !known.picture.empty() && is_intact(session, session.output / known.picture)) return known;
    }
    FormerReport former;
    std::optional<Raster<std::uint8_t>> picture;
    const fs::path file = session.output / report.file;
    const bool same = session.ledger.choice("file/" + report.file) == key; // of that it is made again
    if (!same && is_intact(session, file)) {
        const auto failure = attempt([&] { // what cannot be read is not shown
            const Header old = read_summary(file).header;
            const auto reader = open_frame(file);
            if (!on_the_same_grid(old, *reader, report, master, canvas)) return;
            picture = drawn_alike(small_image(*reader), master, report);
            former.used = static_cast<int>(old.number("NCOMBINE").value_or(0));
            former.seconds = old.number("EXPTIME").value_or(0);
        });
        if (failure) picture.reset();
    }
    if (!picture) {
        std::error_code kept;
        fs::remove(place, kept);
        fs::remove(place.parent_path(), kept); // where it is empty
        return {};
    }
    require_writable_folder(place.parent_path());
    write_png(place, *picture);
    former.picture = fs::absolute(place).lexically_proximate(fs::absolute(session.output)).generic_string();
    remember_intact(session, session.output / former.picture);
    session.ledger.set_choice(choice, nlohmann::json{{"for", key}, {"former", former}}.dump());
    return former;
}

} // namespace kasane
