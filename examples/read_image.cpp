// Says what an image file of any format holds: FITS, TIFF, PNG, JPEG or camera raw, told by its content.
//
//   read_image FILE
#include <kasane/base/error.hpp>
#include <kasane/image/statistics.hpp>
#include <kasane/io/reader.hpp>

#include <iostream>

int main(int argc, char** argv) try {
    if (argc != 2) {
        std::cerr << "usage: read_image FILE\n";
        return 2;
    }
    const kasane::FrameSummary summary = kasane::read_summary(argv[1]); // the header alone, no pixels
    std::cout << kasane::format_name(summary.format) << ", " << summary.width << " x " << summary.height << ", "
              << summary.planes << (summary.planes == 1 ? " plane" : " planes") << "\n";
    for (const kasane::Card& card : summary.header.cards())
        if (!card.value.empty()) std::cout << "  " << card.key << " = " << card.value << "\n";

    const auto frame = kasane::open_frame(argv[1]);
    for (int plane = 0; plane < frame->planes(); ++plane) {
        // Any rectangle can be read, on any thread; here the whole plane.
        kasane::Image pixels(frame->width(), frame->height());
        frame->read(frame->bounds(), pixels.plane(), plane);
        const kasane::RobustStatistics sky = kasane::image_statistics(pixels.plane());
        std::cout << "plane " << plane << ": level " << sky.location << ", scatter " << sky.sigma << "\n";
    }
    return 0;
} catch (const kasane::Error& e) {
    std::cerr << e.what() << "\n";
    return 3;
}
