// Combines calibration frames into a master: bias, dark or flat, outliers rejected, flats brought to one level.
//
//   make_master bias|dark|flat FOLDER RESULT.fits [OFFSET.fits]
//
// OFFSET is a master bias or dark that is taken off each flat.
#include <kasane/base/error.hpp>
#include <kasane/calibration/master.hpp>
#include <kasane/io/fits.hpp>

#include <algorithm>
#include <filesystem>
#include <iostream>
#include <map>

int main(int argc, char** argv) try {
    const std::map<std::string, kasane::Role> roles = {
        {"bias", kasane::Role::bias}, {"dark", kasane::Role::dark}, {"flat", kasane::Role::flat}};
    if (argc < 4 || argc > 5 || !roles.count(argv[1])) {
        std::cerr << "usage: make_master bias|dark|flat FOLDER RESULT.fits [OFFSET.fits]\n";
        return 2;
    }
    std::vector<std::filesystem::path> files;
    for (const auto& entry : std::filesystem::directory_iterator(argv[2]))
        if (kasane::is_readable_name(entry.path())) files.push_back(entry.path());
    std::sort(files.begin(), files.end());
    std::vector<std::shared_ptr<const kasane::FrameReader>> frames;
    for (const auto& file : files)
        frames.push_back(kasane::open_frame(file)); // pixels are read band by band, later
    const auto offset = argc == 5 ? kasane::open_frame(argv[4]) : nullptr;

    const kasane::Workers workers; // all cores
    kasane::Progress silent;
    const kasane::Context context{workers, kasane::default_budget(), silent};
    const kasane::MasterResult master = kasane::build_master(roles.at(argv[1]), frames, offset.get(), context);
    if (master.failure) master.failure->what.raise(); // a frame that cannot be read: build again without it
    kasane::write_fits(argv[3], {{master.pixels.plane(), {}, {}, master.pixels.planes()}});
    std::cout << master.frames << " frames, noise " << master.noise << " (one frame " << master.frame_noise
              << "), rejected " << 100 * master.rejected_share << " %\n";
    return 0;
} catch (const kasane::Error& e) {
    std::cerr << e.what() << "\n";
    return 3;
}
