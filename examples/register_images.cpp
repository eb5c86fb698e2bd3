// Puts one image onto the grid of another, by their stars: shifted, turned, mirrored or of another scale.
//
//   register_images REFERENCE IMAGE RESULT.fits
#include <kasane/base/error.hpp>
#include <kasane/integration/regrid.hpp>
#include <kasane/io/file_planes.hpp>
#include <kasane/io/fits.hpp>
#include <kasane/registration/register.hpp>

#include <iostream>

int main(int argc, char** argv) try {
    if (argc != 4) {
        std::cerr << "usage: register_images REFERENCE IMAGE RESULT.fits\n";
        return 2;
    }
    const std::shared_ptr<const kasane::FrameReader> reference = kasane::open_frame(argv[1]);
    const std::shared_ptr<const kasane::FrameReader> image = kasane::open_frame(argv[2]);
    const kasane::StarList there = kasane::detect_stars(kasane::read_plane(*reference).plane());
    const kasane::StarList here = kasane::detect_stars(kasane::read_plane(*image).plane());

    const kasane::Outcome found = kasane::register_stars(there.stars, here.stars);
    if (!found) throw kasane::DataError(found.text, argv[2], "Name images of one field");
    const kasane::Point origin = found->to_frame.map({0, 0});
    std::cout << found->matched << " stars, residuals of " << found->rms << " pixels; pixel (0, 0) shows (" << origin.x
              << ", " << origin.y << ") of the image\n";

    const kasane::Workers workers; // all cores
    kasane::Progress silent;
    const kasane::Context context{workers, kasane::default_budget(), silent};
    const std::vector<double> noise(static_cast<std::size_t>(image->planes()), here.noise);
    const kasane::RegriddedImage result =
        kasane::regrid(std::make_shared<kasane::FilePlanes>(image), found->to_frame,
                       kasane::reference_canvas(reference->width(), reference->height()), noise, context);
    kasane::write_fits(argv[3], {{result.pixels.plane(), {}, {}, result.pixels.planes()}});
    return 0;
} catch (const kasane::Error& e) {
    std::cerr << e.what() << "\n";
    return 3;
}
