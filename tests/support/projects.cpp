#include "support/projects.hpp"

#include <kasane/io/fits.hpp>

#include <algorithm>
#include <fstream>

namespace fs = std::filesystem;

namespace kasane::test {

RunReport run(const fs::path& folder, int threads) {
    const Quiet quiet(threads);
    return run_project({folder, {}, {}}, quiet.context);
}

StatusReport status_of(const fs::path& folder) {
    const Quiet quiet;
    return project_status({folder, {}, {}}, quiet.context);
}

const Finding* find(const std::vector<Finding>& findings, const std::string& code) {
    for (const Finding& f : findings)
        if (f.code == code) return &f;
    return nullptr;
}

void Meddler::begin(const std::string& stage, std::int64_t total) {
    totals[stage] += total;
    for (auto& [name, action] : at)
        if (stage.starts_with(name) && action) {
            const auto now = std::move(action);
            action = nullptr;
            now();
        }
}

void repaint(const fs::path& file, const std::function<void(Image&)>& change) {
    rewrite(file, [&](Image& image, Header&) { change(image); });
}

void rewrite(const fs::path& file, const std::function<void(Image&, Header&)>& change) {
    const auto reader = open_fits(file);
    Image image = read_plane(*reader);
    Header kept;
    for (const Card& c : reader->header().cards())
        if (c.key != "DATASUM" && c.key != "CHECKSUM" && c.key != "BZERO" && c.key != "BSCALE" &&
            !c.key.starts_with("NAXIS") && c.key != "SIMPLE" && c.key != "BITPIX" && c.key != "EXTEND")
            kept.add(c);
    change(image, kept);
    Raster<std::uint16_t> counts(image.width(), image.height());
    for (std::size_t i = 0; i < counts.pixels().size(); ++i)
        counts.pixels()[i] = static_cast<std::uint16_t>(std::clamp(image.pixels()[i], 0.0f, 65535.0f));
    write_fits_u16(file, counts.plane(), kept, Over::anything);
}

void write_recipe(const fs::path& folder, const std::string& text) {
    std::ofstream(folder / "kasane.toml") << text;
}

ProjectCopy::ProjectCopy(const TemporaryFolder& original, const std::function<void(const fs::path&)>& write)
    : path(folder / "project") {
    if (!fs::exists(original / "project")) write(original / "project");
    shell("cp -a " + (original / "project").string() + " " + path.string());
}

} // namespace kasane::test
