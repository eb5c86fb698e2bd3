// Writes small true files to begin from: fuzz_seeds FOLDER makes FOLDER/{fits,tiff,header_values,recipe,verdicts}/.
#include <kasane/io/fits.hpp>
#include <kasane/sky/dng.hpp>

#include <filesystem>
#include <fstream>

int main(int argc, char** argv) {
    using namespace kasane;
    const std::filesystem::path folder = argc > 1 ? argv[1] : "seeds";
    for (const char* name : {"fits", "tiff", "header_values", "recipe", "verdicts"})
        std::filesystem::create_directories(folder / name);
    const Raster<std::uint16_t> counts(24, 16, 1, 700);
    const Image floats(24, 16, 1, 0.5f);
    Header h;
    h.set("IMAGETYP", "Light");
    h.set("EXPTIME", 120.0);
    h.set("DATE-OBS", "2031-03-12T21:30:00.5");
    h.set("BAYERPAT", "RGGB");
    h.set("ROWORDER", "BOTTOM-UP");
    h.set("SITELONG", "+15 03 10");
    write_fits_u16(folder / "fits/counts.fits", counts.plane(), h, Over::anything);
    write_fits(folder / "fits/floats.fits", {{floats.plane(), h}, {floats.plane(), h, "COVERAGE"}}, Over::anything);
    sky::write_dng(folder / "tiff/mosaic.tif", counts.plane(), {.seconds = 90, .local_time = "2031:03:12 23:00:00"});
    std::ofstream(folder / "header_values/one")
        << "night-1/flats/Ha_300s_-10C.fits\nIMAGETYP=Master Dark\nEXPTIME=12e3\n"
           "DATE-OBS=2031-02-30T25:00:00\nRA=05:34:12\nSITELONG=15 3 10 W\n"
           "XBINNING=2\nBAYERPAT=rggb\nExif.ISOSpeedRatings=800\nnight-{night}/{role}\n";
    std::ofstream(folder / "recipe/one")
        << "[project]\nfolders = [\"../library\"]\nlayout = \"night-{night}/{role}\"\n"
           "time_zone = 1.0\n[pairing]\nscale_darks = false\nseparate = [\"gain\"]\n[assume]\n"
           "cfa = \"RGGB\"\n[[files]]\nmatch = \"a/**\"\nturn = 90\n[cache]\nsize = \"2G\"\n";
    std::ofstream(folder / "verdicts/one")
        << "# by hand\n[[verdict]]\nfile = \"night-2/L_0*\"\nverdict = \"drop\"\n\n"
           "[[verdict]]\nfile = \"a.fits\"\nverdict = \"keep\"\nnote = \"x\"\ncontent = \"12\"\n";
    std::ofstream(folder / "verdicts/two")
        << "sky > 1.7 x night median + 2 spread and worth < 0.7 for Ha, O3 on 2031-03-12";
    std::ofstream(folder / "verdicts/three") << "best 80 % by worth";
    std::ofstream(folder / "verdicts/four") << "[grading] # x\nlimits = [ 'a', # ]\n \"stars < 5\" ]\narea = 4\n";
    return 0;
}
