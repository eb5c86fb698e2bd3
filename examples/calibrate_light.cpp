// Calibrates one light with a master dark (or bias) and a master flat, and writes it.
//
//   calibrate_light LIGHT DARK.fits FLAT.fits RESULT.fits
#include <kasane/base/error.hpp>
#include <kasane/calibration/frame_view.hpp>
#include <kasane/io/fits.hpp>
#include <kasane/io/reader.hpp>

#include <iostream>

int main(int argc, char** argv) try {
    if (argc != 5) {
        std::cerr << "usage: calibrate_light LIGHT DARK.fits FLAT.fits RESULT.fits\n";
        return 2;
    }
    kasane::CalibrationSet masters;
    masters.dark = kasane::open_frame(argv[2]);
    masters.flat = kasane::open_frame(argv[3]); // has mean 1, as make_master writes it
    // Nothing is calibrated yet: a view does it for whatever rectangle is asked for, and this is what measuring,
    // registering and integrating read, without a calibrated file in between.
    const kasane::FrameView light(std::make_shared<const kasane::CalibratedView>(kasane::open_frame(argv[1]), masters));
    const kasane::Image pixels = kasane::read_planes(light);
    kasane::write_fits(argv[4], {{pixels.plane(), {}, {}, pixels.planes()}});
    std::cout << light.width() << " x " << light.height() << " pixels, " << light.planes()
              << (light.planes() == 1 ? " plane\n" : " planes\n");
    return 0;
} catch (const kasane::Error& e) {
    std::cerr << e.what() << "\n";
    return 3;
}
