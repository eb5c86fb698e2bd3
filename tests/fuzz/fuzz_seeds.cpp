// Writes small true files to begin from: fuzz_seeds FOLDER makes FOLDER/NAME/ for each of the targets.
#include <kasane/io/fits.hpp>
#include <kasane/ledger/exposure_record.hpp>
#include <kasane/ledger/record_json.hpp>
#include <kasane/sky/dng.hpp>
#include <kasane/stages/align_records.hpp>
#include <kasane/stages/defect_record.hpp>
#include <kasane/stages/level_records.hpp>
#include <kasane/stages/measure_record.hpp>

#include <filesystem>
#include <fstream>

namespace {

void write_records(const std::filesystem::path& folder) {
    using namespace kasane;
    const auto write = [&](char kind, const std::string& bytes) {
        std::ofstream(folder / std::string(1, kind), std::ios::binary) << kind << bytes;
    };
    Exposure e;
    e.camera = "Lantern 16";
    e.seconds = 120;
    e.world = std::make_shared<const WorldCoordinates>();
    e.problems = {"has no time"};
    write('e', encode(e));
    write('l', encode(Look{}, false));
    ExposureMeasures m;
    m.planes.resize(1);
    m.planes[0].mesh.cell = m.planes[0].mesh.means.cell = 64;
    m.planes[0].mesh.level = m.planes[0].mesh.sigma = m.saturated = Image(3, 2);
    m.planes[0].stars.resize(2);
    m.own.defects = DefectList(4, {{1, 2}, {3, 3}});
    m.streaks.resize(1);
    write('m', encode_measures(m));
    write('d', encode_defects(m.own.defects, {}));
    Outcome found = Outcome::of(Registration{});
    found.result->to_frame = Transform({1, 0, 2, 0, 1, 3, 0, 0, 1}, std::make_shared<const Lens>(), nullptr);
    write('o', encode(found));
    Solved solved{"basis", 3, {}};
    solved.rigs["rig"].lens = std::make_shared<const Lens>();
    write('s', encode(solved));
    StackLevels levels;
    levels.maps.resize(2), levels.scales.resize(2), levels.shares.resize(2);
    levels.maps[0].scale.lattice = {16, 2, 2, {1, 1, 1, 1}};
    write('v', encode(levels));
    MasterReport master;
    write('M', nlohmann::json(master).dump());
    write('S', nlohmann::json(StackReport{}).dump());
    write('C', nlohmann::json(CompositeReport{}).dump());
}

} // namespace

int main(int argc, char** argv) {
    using namespace kasane;
    const std::filesystem::path folder = argc > 1 ? argv[1] : "seeds";
    for (const char* name : {"fits", "tiff", "header_values", "recipe", "verdicts", "records", "requests"})
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
    write_records(folder / "records");
    std::ofstream(folder / "requests/one")
        << R"({"generation": 2, "decisions": [{"stack": 0, "frame": 3, "verdict": "drop", "note": "a car"},)"
        << R"({"stack": 1, "frame": 0, "verdict": "auto"}], "limits": ["fwhm > 3 px"], )"
        << R"("reference": {"stack": 0, "frame": 1}, "comet": [{"stack": 0, "frame": 2, "at": [312.4, 204.0]}]})";
    std::ofstream(folder / "requests/two") << R"({"decisions": [], "limits": null, "reference": null, "comet": []})";
    return 0;
}
