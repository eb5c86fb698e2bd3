// Lays the FITS lights of one folder onto a finer grid (drizzling), as lights of stars smaller than two pixels deserve.
//
//   drizzle_folder FOLDER SCALE RESULT.fits
#include <kasane/base/error.hpp>
#include <kasane/calibration/frame_view.hpp>
#include <kasane/grading/measures.hpp>
#include <kasane/integration/drizzle.hpp>
#include <kasane/io/fits.hpp>
#include <kasane/normalization/levels.hpp>
#include <kasane/registration/register.hpp>

#include <algorithm>
#include <cstdlib>
#include <filesystem>
#include <iostream>

int main(int argc, char** argv) try {
    if (argc != 4) {
        std::cerr << "usage: drizzle_folder FOLDER SCALE RESULT.fits\n";
        return 2;
    }
    std::vector<std::filesystem::path> files;
    for (const auto& entry : std::filesystem::directory_iterator(argv[1]))
        if (kasane::is_readable_name(entry.path())) files.push_back(entry.path());
    std::sort(files.begin(), files.end());

    const kasane::Workers workers; // all cores
    kasane::Progress silent;
    const kasane::Context context{workers, kasane::default_budget(), silent};

    std::vector<std::shared_ptr<const kasane::Measures>> measures; // of the lights that can be used
    std::vector<kasane::StackFrame> stack;
    std::vector<kasane::LevelInput> skies;
    for (const auto& file : files) {
        // A view is the exposure as it should be; masters would go where the braces are.
        auto light = std::make_shared<const kasane::CalibratedView>(kasane::open_frame(file), kasane::CalibrationSet{});
        auto view = std::make_shared<const kasane::FrameView>(light);
        auto here = std::make_shared<const kasane::Measures>(kasane::measure_exposure(*view).main());
        const auto found =
            kasane::register_stars(measures.empty() ? here->stars : measures.front()->stars, here->stars);
        if (!found) {
            std::cerr << file << " is left out: " << found.text << "\n";
            continue;
        }
        measures.push_back(here);
        skies.push_back({here.get(), found->to_frame, 0, view->width(), view->height()});
        stack.push_back({view, {{found->to_frame, {}, here->noise}}, 0});
    }
    if (stack.empty()) throw kasane::DataError("no light could be used", argv[1], "Name a folder with FITS lights");
    const auto canvas = kasane::reference_canvas(stack.front().source->width(), stack.front().source->height());
    const kasane::StackLevels levels = kasane::fit_stack_levels(skies, canvas, workers);
    for (std::size_t k = 0; k < stack.size(); ++k)
        stack[k].planes.front().level = levels.maps[k];
    kasane::DrizzleOptions finer;
    finer.scale = std::atof(argv[2]); // output pixels along the side of one of the lights, 1 to 3
    const kasane::MasterLight master = kasane::drizzle(stack, canvas, {levels.background}, context, {}, finer);
    if (master.failure) master.failure->what.raise(); // a file that vanished, say
    kasane::write_fits(argv[3], {{master.pixels.plane(), {}}});
    std::cout << stack.size() << " of " << files.size() << " lights, " << master.pixels.width() << " x "
              << master.pixels.height() << " pixels\n";
    return 0;
} catch (const kasane::Error& e) {
    std::cerr << e.what() << "\n";
    return 3;
}
