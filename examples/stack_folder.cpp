// Registers the FITS lights of one folder onto the first and writes their mean with rejection: the core library alone,
// without a project, a ledger or calibration frames.
//
//   stack_folder FOLDER RESULT.fits
#include <kasane/base/error.hpp>
#include <kasane/calibration/frame_view.hpp>
#include <kasane/grading/measures.hpp>
#include <kasane/integration/integrate.hpp>
#include <kasane/io/fits.hpp>
#include <kasane/normalization/levels.hpp>
#include <kasane/registration/register.hpp>

#include <algorithm>
#include <filesystem>
#include <iostream>

int main(int argc, char** argv) try {
    if (argc != 3) {
        std::cerr << "usage: stack_folder FOLDER RESULT.fits\n";
        return 2;
    }
    std::vector<std::filesystem::path> files;
    for (const auto& entry : std::filesystem::directory_iterator(argv[1]))
        if (kasane::is_readable_name(entry.path())) files.push_back(entry.path());
    std::sort(files.begin(), files.end());

    const kasane::Workers workers; // all cores
    kasane::Progress silent;
    const kasane::Context context{workers, kasane::default_budget(), silent};

    std::vector<kasane::Measures> measures;
    std::vector<kasane::StackFrame> stack;
    for (const auto& file : files) {
        // A view is the exposure as it should be; masters would go where the braces are.
        auto light = std::make_shared<const kasane::CalibratedView>(kasane::open_frame(file), kasane::CalibrationSet{});
        auto view = std::make_shared<const kasane::FrameView>(light);
        measures.push_back(kasane::measure_exposure(*view).main());
        const kasane::Measures &first = measures.front(), &here = measures.back();
        const auto found = kasane::register_stars(first.stars, here.stars);
        if (!found) {
            std::cerr << file << " is left out: " << found.text << "\n";
            continue;
        }
        const auto level = kasane::fit_level({&first, {}, 0, view->width(), view->height()},
                                             {&here, found->to_frame, 0, view->width(), view->height()},
                                             kasane::reference_canvas(view->width(), view->height()));
        stack.push_back({view, {{found->to_frame, level.map, here.noise}}, 0});
    }
    if (stack.empty()) throw kasane::DataError("no light could be used", argv[1], "Name a folder with FITS lights");
    const auto canvas = kasane::reference_canvas(stack.front().source->width(), stack.front().source->height());
    const kasane::MasterLight master = kasane::integrate(stack, canvas, {measures.front().background}, context);
    if (master.failure) master.failure->what.raise(); // a file that vanished, say
    kasane::write_fits(argv[2], {{master.pixels.plane(), {}}});
    std::cout << stack.size() << " of " << files.size() << " lights, rejected "
              << master.rejected_low + master.rejected_high << " of " << master.samples << " samples\n";
    return 0;
} catch (const kasane::Error& e) {
    std::cerr << e.what() << "\n";
    return 3;
}
