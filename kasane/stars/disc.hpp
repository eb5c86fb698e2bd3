// A round place in an image.
#pragma once

namespace kasane {

struct Disc {
    double x = 0, y = 0, radius = 0; ///< pixels
};

} // namespace kasane
