#include <kasane/frames/words.hpp>

#include <catch2/catch.hpp>
#include <map>

using namespace kasane;

TEST_CASE("Roles are known by whole words in many languages and spellings") {
    const std::map<std::string, Role> names = {{"lights", Role::light},
                                               {"Lichter", Role::light},
                                               {"brutes", Role::light},
                                               {"Darks", Role::dark},
                                               {"DUNKELBILDER", Role::dark},
                                               {"oscuros", Role::dark},
                                               {"noirs_300s", Role::dark},
                                               {"ダーク", Role::dark},
                                               {"暗场", Role::dark},
                                               {"Дарки", Role::dark},
                                               {"flats", Role::flat},
                                               {"FlatField", Role::flat},
                                               {"skyflat_003", Role::flat},
                                               {"PLU", Role::flat},
                                               {"Bias", Role::bias},
                                               {"offsets", Role::bias},
                                               {"zero_001", Role::bias},
                                               {"flat-dark", Role::dark_flat},
                                               {"dark flats", Role::dark_flat},
                                               {"DarkFlats", Role::dark_flat},
                                               {"dark300s_-10C", Role::dark},
                                               {"MasterDark_120", Role::dark},
                                               {"darkroom", Role::unknown},
                                               {"M42", Role::unknown},
                                               {"highlights", Role::unknown},
                                               {"dark_gain100_offset50", Role::dark}};
    for (const auto& [name, role] : names) {
        INFO(name);
        CHECK(role_of_name(name).role == role);
    }
}

TEST_CASE("A name with other words in it is not sure, a master says so") {
    CHECK_FALSE(role_of_name("Dark Shark region").sure);
    CHECK(role_of_name("dark_300s_ISO800_001").sure);
    CHECK(role_of_name("master_flat_Ha").master);
    CHECK(role_of_name("MasterBias").master);
    CHECK(role_of_name("dark_stacked").master);
    CHECK_FALSE(role_of_name("flat_Ha_003").master);
    CHECK(role_of_text("Master Dark Frame").master);
    CHECK(role_of_text("LIGHT").role == Role::light);
    CHECK(role_of_text("Tricolor").role == Role::unknown);
}

TEST_CASE("Names spell out exposure, temperature, gain, ISO, binning and filter") {
    const auto values = [](const std::string& name) {
        std::map<Field, std::string> out;
        for (const NamedValue& v : values_of_name(name))
            out[v.field] = v.value;
        return out;
    };
    auto v = values("light_Ha_300s_-10C_gain100_bin2_0012");
    CHECK(v[Field::filter] == "Ha");
    CHECK(v[Field::seconds] == "300");
    CHECK(v[Field::temperature] == "-10");
    CHECK(v[Field::gain] == "100");
    CHECK(v[Field::binning] == "2");
    v = values("DARK ISO1600 2.5sec m15C");
    CHECK(v[Field::gain] == "ISO1600");
    CHECK(v[Field::seconds] == "2.5");
    CHECK(v[Field::temperature] == "-15");
    CHECK(values("IMG_4201").empty());
    CHECK(values("NGC7000_r_band").empty());
}

TEST_CASE("Filters fold, and names become fit for files") {
    for (const char* name : {"Ha", "H-alpha", "h alpha", "HYDROGEN-ALPHA", "Hα"})
        CHECK(fold_filter(name) == "Ha");
    CHECK(fold_filter("OIII") == "O3");
    CHECK(fold_filter("No Filter").empty());
    CHECK(fold_filter("  Duo Band 7nm ") == "Duo Band 7nm");
    CHECK(file_safe("Lantern + Moon: \"best\"/2") == "Lantern-plus-Moon-best-2");
    CHECK(file_safe(std::string(500, 'a')).size() == 100);
    CHECK(file_safe("\n\t*").empty());
}

TEST_CASE("A lone letter is the weakest sign of a filter, and a role's own initial is none") {
    const auto filter = [](Role role, const std::string& path, const std::string& cfa = {}) {
        Exposure e;
        e.path = path;
        e.cfa = cfa;
        set_value(e, Field::role, std::string(role_name(role)), {Origin::header, {}});
        settle_filter(e);
        return e.filter;
    };
    const Role l = Role::light, f = Role::flat;
    for (const char* path : {"L_Ha_001.fits", "L_006_Ha.fits", "L-Ha-012.fits", "Ha/lights/L_009.fits",
                             "night-1/Ha/L_1.fits", "lights/R_Ha_3.fits"})
        CHECK(filter(l, path) == "Ha");
    CHECK(filter(l, "L_O3_011.fits") == "O3");
    CHECK(filter(l, "lights/SII/L_010.fits") == "S2");
    CHECK(filter(l, "lights/lum/R_010.fits") == "L");
    CHECK(filter(l, "lights/L_010.fits").empty()); // L for light
    CHECK(filter(l, "lights/R_010.fits") == "R");
    CHECK(filter(l, "R/lights/L_010.fits") == "R");
    CHECK(filter(l, "brutes/B_010.fits").empty()); // a light in another language
    CHECK(filter(f, "flats/L_010.fits") == "L");
    CHECK(filter(f, "F_Ha_3.fits") == "Ha");
    CHECK(filter(Role::bias, "B_00.fits").empty());
    CHECK(filter(Role::bias, "Ha/B_00.fits").empty());
    CHECK(filter(Role::dark, "lights/SII/D_1.fits").empty());
    CHECK(filter(Role::dark_flat, "flats/Ha/x.fits").empty());
    CHECK(filter(Role::unknown, "R_1.fits").empty());
    CHECK(filter(l, "lights/R_010.fits", "RGGB").empty()); // a colour sensor
    CHECK(filter(l, "Ha/lights/R_010.fits", "RGGB") == "Ha");
    CHECK(filter(l, "Blue-Horsehead/lights/R_1.fits") == "R"); // a nebula's name
    CHECK(filter(l, "Blue-Horsehead/lights/Ha_1.fits") == "Ha");
    CHECK(filter(l, "blue/lights/x_1.fits") == "B");
    CHECK(filter(l, "night N2/x_1.fits") == "N2");
    CHECK(filter(l, "night N2/Ha/x_1.fits") == "Ha");
    // What a header or the recipe says is not touched.
    Exposure e;
    e.path = "Ha/L_1.fits";
    set_value(e, Field::filter, "O3", {Origin::header, {}});
    settle_filter(e);
    CHECK(e.filter == "O3");
}
