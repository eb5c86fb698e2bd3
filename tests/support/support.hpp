// What many tests need: folders that go away, simulated projects, and the command run as a user would.
#pragma once

#include <kasane/base/parallel.hpp>
#include <kasane/geometry/affine.hpp>
#include <kasane/image/image.hpp>
#include <kasane/io/memory_frame.hpp>
#include <kasane/sky/scenario.hpp>

#include <filesystem>
#include <map>
#include <string>
#include <vector>

namespace kasane::test {

class TemporaryFolder {
public:
    TemporaryFolder();
    ~TemporaryFolder();
    TemporaryFolder(const TemporaryFolder&) = delete;
    TemporaryFolder& operator=(const TemporaryFolder&) = delete;
    const std::filesystem::path& path() const { return path_; }
    std::filesystem::path operator/(const std::string& name) const { return path_ / name; }

private:
    std::filesystem::path path_;
};

/// Two threads, plenty of memory, silence.
struct Quiet {
    explicit Quiet(int threads = 2, std::uint64_t memory = 1ull << 30)
        : workers(threads), context{workers, {memory}, progress} {}
    Workers workers;
    Progress progress;
    Context context;
};

/// A small project of one filter: 10 lights of 320 x 240 pixels with bias, darks and flats.
sky::PlainOptions small_options();
void write_small_project(const std::filesystem::path& folder, const sky::PlainOptions& options = small_options());

/// From scene positions to the pixels of a light.
Affine true_transform(const sky::Scenario& scenario, const sky::Shot& light);

/// A star of `flux`, integrated over pixels, with a Gaussian profile.
void add_gaussian_star(Image& image, double x, double y, double flux, double fwhm);
/// Normal noise, the same for the same seed.
void add_noise(Image& image, double sigma, std::uint64_t seed);

std::string read_file(const std::filesystem::path& file);
/// Digest of every file below a folder, by relative path; hidden folders and those named in `without` left out.
std::map<std::string, std::string> digests(const std::filesystem::path& folder,
                                           const std::vector<std::string>& without = {});

struct Outcome {
    int status = -1;
    std::string out, err;
};
/// Runs a shell command line; `{kasane}` stands for the command's path.
Outcome shell(std::string line);

} // namespace kasane::test
