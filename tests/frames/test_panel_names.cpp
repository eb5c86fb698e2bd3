// What people call the panels of a mosaic.
#include <kasane/frames/panel_names.hpp>

#include <catch2/catch.hpp>

using namespace kasane;

TEST_CASE("Names of panels are split into target and panel") {
    struct Case {
        const char *name, *target, *panel;
    };
    const Case c = GENERATE(values<Case>({
        {"Paper Lantern Nebula panel 3", "Paper Lantern Nebula", "3"},
        {"Paper_Lantern_Panel12", "Paper_Lantern", "12"},
        {"Lantern Panel A", "Lantern", "A"},
        {"Lantern (panel 2-1)", "Lantern", "2-1"},
        {"Lantern tile 1x2", "Lantern", "1x2"},
        {"Lantern_Mosaic_4", "Lantern", "4"},
        {"Lantern, Kachel 2", "Lantern", "2"},
        {"Lantern panneau no 2", "Lantern panneau no 2", ""},
        {"Lantern P2", "Lantern", "2"},
        {"NGC9999_P10", "NGC9999", "10"},
        {"Lantern R1C2", "Lantern", "R1C2"},
        {"Lantern 2-1", "Lantern", "2-1"},
        {"NGC 9999 1x2", "NGC 9999", "1x2"},
        {"Panel 7", "Mosaic", "7"},
        // No panels.
        {"Paper Lantern Nebula", "Paper Lantern Nebula", ""},
        {"M 31", "M 31", ""},
        {"NGC 7000", "NGC 7000", ""},
        {"Sh 2-9", "Sh 2-9", ""},
        {"Sh2-155", "Sh2-155", ""},
        {"Abell 12", "Abell 12", ""},
        {"Panel", "Panel", ""},
        {"Solar panels", "Solar panels", ""},
        {"", "", ""},
    }));
    const PanelName found = panel_of_name(c.name);
    INFO(c.name);
    CHECK(found.target == c.target);
    CHECK(found.panel == c.panel);
}

TEST_CASE("A text as long as a book is no panel's name") {
    std::string longest(100000, 'a');
    longest += " panel 1";
    CHECK(panel_of_name(longest).target == longest);
}
