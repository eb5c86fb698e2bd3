// Takes the gradient of lamps and moon off a master light, and writes it with a picture to look at.
//
//   take_off_gradient IMAGE RESULT.fits PICTURE.png
#include <kasane/base/error.hpp>
#include <kasane/finishing/gradient.hpp>
#include <kasane/image/stretch.hpp>
#include <kasane/io/fits.hpp>
#include <kasane/io/png.hpp>
#include <kasane/io/reader.hpp>

#include <iostream>

int main(int argc, char** argv) try {
    if (argc != 4) {
        std::cerr << "usage: take_off_gradient IMAGE RESULT.fits PICTURE.png\n";
        return 2;
    }
    kasane::Image image = kasane::read_plane(*kasane::open_frame(argv[1]));
    const kasane::Workers workers; // all cores
    const kasane::Gradient gradient =
        kasane::fit_gradient(image.plane(), kasane::detect_stars(image.plane()), {}, workers);
    kasane::take_off(gradient, false, image.plane(), workers);
    std::cout << gradient.kind << ", " << gradient.size << " ADU from edge to edge, level " << gradient.level
              << " ADU; " << 100 * gradient.share() << " % of the places looked at are sky\n";
    kasane::write_fits(argv[2], {{image.plane(), {}}});
    kasane::write_png(argv[3], kasane::render(image.plane(), kasane::choose_stretch(image.plane())));
    return 0;
} catch (const kasane::Error& e) {
    std::cerr << e.what() << "\n";
    return 3;
}
