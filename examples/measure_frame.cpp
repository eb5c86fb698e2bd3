// Measures one exposure: its stars, how sharp and round they are, its sky and noise, trails across it.
//
//   measure_frame FILE
#include <kasane/base/error.hpp>
#include <kasane/grading/measures.hpp>
#include <kasane/io/reader.hpp>

#include <algorithm>
#include <iostream>

int main(int argc, char** argv) try {
    if (argc != 2) {
        std::cerr << "usage: measure_frame FILE\n";
        return 2;
    }
    // Masters would go where the braces are (see calibrate_light.cpp).
    const auto light =
        std::make_shared<const kasane::CalibratedView>(kasane::open_frame(argv[1]), kasane::CalibrationSet{});
    const kasane::ExposureMeasures all = kasane::measure_exposure(kasane::FrameView(light));
    const kasane::Measures& m = all.main(); // of three colours, green
    std::cout << "stars " << m.count << ", FWHM " << m.fwhm << " pixels, eccentricity " << m.eccentricity << "\n"
              << "sky " << m.background << " ADU, noise " << m.noise << " ADU, trails " << all.streaks.size() << "\n"
              << "x,y,flux,fwhm\n";
    for (std::size_t i = 0; i < std::min<std::size_t>(10, m.stars.size()); ++i) // brightest first
        std::cout << m.stars[i].x << "," << m.stars[i].y << "," << m.stars[i].flux << "," << m.stars[i].fwhm << "\n";
    return 0;
} catch (const kasane::Error& e) {
    std::cerr << e.what() << "\n";
    return 3;
}
