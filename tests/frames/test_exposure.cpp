#include <kasane/frames/exposure.hpp>
#include <kasane/frames/nights.hpp>

#include <catch2/catch.hpp>
#include <vector>

using namespace kasane;

namespace {

Exposure describe(const std::vector<std::pair<std::string, std::string>>& cards, const std::string& path = "a.fits") {
    FrameSummary s{Format::fits, {}, 100, 80, 1, 16, true};
    for (const auto& [key, value] : cards)
        s.header.set(key, value);
    return describe_exposure(path, s);
}

} // namespace

TEST_CASE("Every value says how it is known") {
    const Exposure e =
        describe({{"IMAGETYP", "Light"}, {"EXPOSURE", "90"}, {"Exif.FocalLength", "200"}}, "night/O3_gain120_1.fits");
    CHECK(e.source(Field::role).text() == "header IMAGETYP = Light");
    CHECK(e.source(Field::seconds).text() == "header EXPOSURE = 90");
    CHECK(e.source(Field::focal_length).origin == Origin::exif);
    CHECK(e.filter == "O3");
    CHECK(e.source(Field::filter).text() == "file name O3_gain120_1.fits");
    CHECK(e.gain.value() == 120);
    CHECK(e.source(Field::offset).text() == "not known");
}

TEST_CASE("Many spellings end in one record") {
    for (const char* key : {"EXPTIME", "EXPOSURE", "XPOSURE", "EXP_TIME", "Exif.ExposureTime"})
        CHECK(describe({{key, "12.5"}}).seconds.value() == 12.5);
    for (const char* key : {"CCD-TEMP", "CCDTEMP", "DET-TEMP", "SENSTEMP", "Raw.SensorTemperature"})
        CHECK(describe({{key, "-4.5"}}).temperature.value() == -4.5);
    CHECK(describe({{"CCDSUM", "2 3"}}).binning_y == 3);
    CHECK(describe({{"XBINNING", "2"}, {"YBINNING", "2"}}).binning_x == 2);
    CHECK(describe({{"Exif.ISOSpeedRatings", "1600"}}).gain_is_iso);
    CHECK(describe({{"MJD-OBS", "62937.875"}}).start == "2031-03-12T21:00:00");
    CHECK(describe({{"DATE-OBS", "2031-03-12"}, {"TIME-OBS", "21:30:00"}}).start == "2031-03-12T21:30:00");
    CHECK(describe({{"OBJCTRA", "05 34 12"}, {"OBJCTDEC", "-05 23 28"}}).right_ascension.value() == Approx(83.55));
    CHECK(describe({{"OBJCTDEC", "-05 23 28"}}).declination.value() == Approx(-5.3911).margin(1e-4));
    CHECK(describe({{"SITELONG", "15 03 10 W"}}).longitude.value() == Approx(-15.0528).margin(1e-4));
    CHECK(describe({{"BAYERPAT", "RGGB"}, {"XBAYROFF", "1"}}).cfa == "GRBG");
    CHECK(describe({{"BAYERPAT", "RGGB"}, {"YBAYROFF", "1"}}).cfa == "GBRG");
    CHECK(describe({{"INSTRUME", "N/A"}, {"CAMERA", "Lantern 26"}}).camera == "Lantern 26");
}

TEST_CASE("Masters are recognised, lights are never mistaken for them") {
    CHECK(describe({{"IMAGETYP", "Master Flat"}}).is_master);
    CHECK(describe({{"IMAGETYP", "Dark"}, {"NCOMBINE", "20"}}).is_master);
    CHECK(describe({}, "library/master_dark_300s.fits").is_master);
    CHECK(describe({}, "masters/dark_300s.fits").is_master);
    CHECK_FALSE(describe({{"IMAGETYP", "Light"}}, "Masters of 2031/lights/a.fits").is_master);
    CHECK_FALSE(describe({{"IMAGETYP", "Light"}}, "lights/master session 3.fits").is_master);
    CHECK(describe({{"IMAGETYP", "Light"}}, "lights/masterlight_Ha.fits").is_master);
    CHECK(describe({{"IMAGETYP", "Light"}, {"STACKCNT", "40"}}).is_master);
}

TEST_CASE("A header is trusted before a folder, a folder before a file name, the sure before the doubtful") {
    CHECK(describe({{"IMAGETYP", "Light"}}, "darks/flat.fits").role == Role::light);
    CHECK(describe({{"IMAGETYP", "unknown thing"}}, "darks/flat.fits").role == Role::dark);
    CHECK(describe({}, "The Dark Horse/flats/a.fits").role == Role::flat);
    const Exposure doubtful = describe({}, "The Dark Horse/a.fits");
    CHECK(doubtful.role == Role::dark);
    CHECK(doubtful.role_confidence < 1);
}

TEST_CASE("Values that cannot be are told and not used") {
    const Exposure e = describe({{"EXPTIME", "-5"},
                                 {"CCD-TEMP", "9999"},
                                 {"DATE-OBS", "2031-02-30T25:00:00"},
                                 {"XBINNING", "0"},
                                 {"GAIN", "nan"},
                                 {"FOCALLEN", "1e300"},
                                 {"OBJCTRA", "77 00 00"}});
    CHECK_FALSE(e.seconds);
    CHECK_FALSE(e.temperature);
    CHECK(e.start.empty());
    CHECK(e.binning_x == 1);
    CHECK_FALSE(e.gain);
    CHECK_FALSE(e.focal_length_mm);
    CHECK_FALSE(e.right_ascension);
    CHECK(e.problems.size() == 6); // "nan" says nothing at all
}

TEST_CASE("Times of any usual form are read, dates that do not exist are not") {
    CHECK(parse_time("1970-01-02T00:00:01").value() == 86401);
    CHECK(parse_time("2031:03:12 21:30:05").value() == parse_time("2031-03-12T21:30:05.0").value());
    CHECK(parse_time("2031-03-12T21:30:05.25").value() == Approx(parse_time("2031-03-12T21:30:05").value() + 0.25));
    for (const char* wrong : {"2031-02-29T00:00:00", "2031-13-01T00:00:00", "0000:00:00 00:00:00", "yesterday", "",
                              "2031-03-12", "2031-03-12T24:00:00", "99999-03-12T20:00:00"})
        CHECK_FALSE(parse_time(wrong));
    CHECK(time_text(parse_time("2031-03-12T21:30:05").value()) == "2031-03-12T21:30:05");
}

TEST_CASE("Nights: by the camera's clock, the time zone, the site, or the gaps between lights") {
    const auto at = [](const std::string& utc, const std::string& local = {}) {
        Exposure e;
        e.role = Role::light;
        e.start = utc;
        e.start_local = local;
        return e;
    };
    std::vector<Exposure> e = {at("", "2031-03-13T01:00:00")};
    assign_nights(e);
    CHECK(e[0].night == "2031-03-12");

    e = {at("2031-03-12T10:00:00"), at("2031-03-12T19:00:00")}; // evening and morning in Japan
    assign_nights(e, {9.0});
    CHECK(e[0].night == "2031-03-12");
    CHECK(e[1].night == "2031-03-12");

    // Nothing says where: lights without a long gap are one night, its flats too.
    e = {at("2031-03-12T10:30:00"), at("2031-03-12T14:00:00"), at("2031-03-12T18:00:00"), at("2031-03-13T11:00:00"),
         at("2031-03-12T09:30:00")};
    e[4].role = Role::flat;
    assign_nights(e);
    CHECK(e[0].night == e[2].night);
    CHECK(e[4].night == e[0].night);
    CHECK(e[3].night != e[0].night);

    e = {at("2031-03-12T20:00:00")};
    e[0].night = "night of the comet"; // by the recipe
    assign_nights(e);
    CHECK(e[0].night == "night of the comet");
}

TEST_CASE("A turned mosaic has a turned pattern") {
    Exposure e;
    e.width = 6;
    e.height = 4;
    e.cfa = "RGGB";
    CHECK(set_value(e, Field::turn, "180", {Origin::recipe, {}}).empty());
    CHECK(e.cfa == "BGGR");
    CHECK(e.width == 6);
    CHECK(set_value(e, Field::turn, "270", {Origin::recipe, {}}).empty()); // a quarter more: the lower left comes first
    CHECK(e.cfa == "GBRG");
    CHECK(e.width == 4);
    CHECK(set_value(e, Field::turn, "0", {Origin::recipe, {}}).empty());
    CHECK(e.cfa == "RGGB");
}
