#include <kasane/project/library_versions.hpp>

#include <cstdio> // before jpeglib.h, which forgets it

#include <Eigen/Core>
#include <fitsio.h>
#include <fmt/format.h>
#include <jpeglib.h>
#include <lcms2.h>
#include <libraw/libraw.h>
#include <png.h>
#include <sqlite3.h>
#include <tbb/version.h>
#include <tiffio.h>
#include <zlib.h>

namespace kasane {

std::vector<LibraryVersion> library_versions() {
    float fits = 0;
    fits_get_version(&fits);
    const std::string tiff = TIFFGetVersion(); // "LIBTIFF, Version 4.5.0\n..."
    const auto number = tiff.find_first_of("0123456789");
    const int lcms = cmsGetEncodedCMMversion();
    const auto parts = [](int a, int b, int c) { return fmt::format("{}.{}.{}", a, b, c); };
    return {{"cfitsio", fmt::format("{:.2f}", fits)},
            {"LibRaw", libraw_version()},
            {"libtiff", number == std::string::npos ? "unknown" : tiff.substr(number, tiff.find('\n') - number)},
            {"libpng", png_get_libpng_ver(nullptr)},
            {"libjpeg", fmt::format("{}.{}", JPEG_LIB_VERSION / 10, JPEG_LIB_VERSION % 10)},
            {"zlib", zlibVersion()},
            {"Little CMS", fmt::format("{}.{:02}", lcms / 1000, lcms % 1000 / 10)},
            {"SQLite", sqlite3_libversion()},
            {"oneTBB", TBB_runtime_version()},
            {"Eigen", parts(EIGEN_WORLD_VERSION, EIGEN_MAJOR_VERSION, EIGEN_MINOR_VERSION)},
            {"fmt", parts(FMT_VERSION / 10000, FMT_VERSION / 100 % 100, FMT_VERSION % 100)}};
}

} // namespace kasane
