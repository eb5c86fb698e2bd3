#include "support/support.hpp"
#include "support/places.hpp"

#include <kasane/base/hash.hpp>
#include <kasane/base/units.hpp>
#include <kasane/sky/random.hpp>

#include <algorithm>
#include <cmath>
#include <cstdlib>
#include <fstream>
#include <sstream>
#include <sys/wait.h>

namespace fs = std::filesystem;

namespace kasane::test {

TemporaryFolder::TemporaryFolder() {
    std::string pattern = (fs::temp_directory_path() / "kasane-test-XXXXXX").string();
    if (!mkdtemp(pattern.data())) throw std::runtime_error("no temporary folder can be made");
    path_ = pattern;
}

TemporaryFolder::~TemporaryFolder() {
    std::error_code ignored;
    fs::permissions(path_, fs::perms::owner_all, ignored);
    fs::remove_all(path_, ignored);
}

sky::PlainOptions small_options() {
    sky::PlainOptions o;
    o.width = 320;
    o.height = 240;
    o.lights = 10;
    o.calibration = 6;
    o.stars = 90;
    o.dither = 6;
    o.nebula = 0.3; // so small a field would be all structure otherwise
    return o;
}

void write_small_project(const fs::path& folder, const sky::PlainOptions& options) {
    const Quiet quiet;
    sky::write_scenario(sky::plain_scenario(options), folder, quiet.context);
}

Affine true_transform(const sky::Scenario& s, const sky::Shot& light) {
    const auto m = sky::scene_to_pixel(light.conditions.pointing, s.instrument.width, s.instrument.height);
    return {m[0], m[1], m[2], m[3], m[4], m[5]};
}

void add_gaussian_star(Image& image, double x, double y, double flux, double fwhm) {
    const double s = fwhm / kFwhmPerSigma * std::sqrt(2.0);
    const auto part = [&](double center, int i) {
        return 0.5 * (std::erf((i + 0.5 - center) / s) - std::erf((i - 0.5 - center) / s));
    };
    for (int j = 0; j < image.height(); ++j) {
        const double row = part(y, j);
        if (row < 1e-9) continue;
        for (int i = 0; i < image.width(); ++i)
            image(i, j) += static_cast<float>(flux * row * part(x, i));
    }
}

void add_noise(Image& image, double sigma, std::uint64_t seed) {
    sky::Random random(seed);
    for (float& v : image.pixels())
        v += static_cast<float>(sigma * random.normal());
}

std::string read_file(const fs::path& file) {
    std::ifstream in(file, std::ios::binary);
    std::stringstream text;
    text << in.rdbuf();
    return text.str();
}

std::map<std::string, std::string> digests(const fs::path& folder, const std::vector<std::string>& without) {
    std::map<std::string, std::string> out;
    for (auto it = fs::recursive_directory_iterator(folder); it != fs::recursive_directory_iterator(); ++it) {
        const std::string name = it->path().filename().string();
        if (it->is_directory() &&
            (name.front() == '.' || std::find(without.begin(), without.end(), name) != without.end()))
            it.disable_recursion_pending();
        if (it->is_regular_file()) out[fs::relative(it->path(), folder).string()] = digest(read_file(it->path()));
    }
    return out;
}

Outcome shell(std::string line) {
    const TemporaryFolder folder;
    for (auto at = line.find("{kasane}"); at != std::string::npos; at = line.find("{kasane}"))
        line.replace(at, 8, kCommand);
    const std::string full = "(" + line + ") >" + (folder / "out").string() + " 2>" + (folder / "err").string();
    const int status = std::system(full.c_str());
    return {WIFEXITED(status) ? WEXITSTATUS(status) : 128 + WTERMSIG(status), read_file(folder / "out"),
            read_file(folder / "err")};
}

} // namespace kasane::test
