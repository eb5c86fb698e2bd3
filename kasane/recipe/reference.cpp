// The template that 'kasane init' writes, and docs/recipe.md.
#include <kasane/recipe/keys.hpp>

#include <fmt/format.h>
#include <sstream>

namespace kasane {

using recipe_keys::Key;

namespace {

std::string wrapped_comment(const std::string& text) {
    std::string out, line = "#";
    std::istringstream in(text);
    std::string word;
    while (in >> word) {
        if (line.size() + 1 + word.size() > 100) {
            out += line + "\n";
            line = "#";
        }
        line += " " + word;
    }
    return out + line + "\n";
}

std::string section_heading(const std::string& section) {
    return section == "project"         ? "Where the files are and what their names mean"
           : section == "pairing"       ? "Which calibration frames go with which lights"
           : section == "colour"        ? "How the mosaics of colour sensors become planes"
           : section == "calibration"   ? "What is done to the pixels beside dark and flat"
           : section == "grading"       ? "How exposures are measured, and which are dropped"
           : section == "registration"  ? "How lights are brought onto one grid"
           : section == "normalization" ? "How lights are brought to one level"
           : section == "canvas"        ? "What the master lights show, and how"
           : section == "integration"   ? "How lights become one image"
           : section == "drizzle"       ? "Master lights on a finer grid, from undersampled lights"
           : section == "comet"         ? "A comet among the stars"
           : section == "finish"        ? "What is done to master lights once they are made"
                                        : "The cache of decoded pixels";
}

std::string example_of(const Key& k) {
    const std::string s = k.standard;
    return s.starts_with("none; ") ? s.substr(6) : s;
}

} // namespace

std::string recipe_template() {
    std::string out =
        "# A Kasane recipe. Everything here is commented out and shows the default: an empty recipe is a good one.\n"
        "# Remove the '#' before a line to change it. All keys are explained in docs/recipe.md.\n";
    std::string section;
    for (const Key& k : recipe_keys::all()) {
        if (section != k.section) {
            section = k.section;
            out += fmt::format("\n# {}\n[{}]\n", section_heading(section), section);
        }
        out += wrapped_comment(k.meaning);
        out += fmt::format("# {} = {}\n", k.name, example_of(k));
    }
    out +=
        "\n# What headers lack, for all files that do not say it themselves\n[assume]\n"
        "# cfa = \"RGGB\"\n# gain = 100\n# pixel_size = 3.76\n"
        "\n# What some files have wrong; the last rule wins. Any value of the record can be given, and exclude = true\n"
        "# [[files]]\n# match = \"night-2/flats/**\"\n# filter = \"Ha\"\n# turn = 90\n"
        "\n# What stands before the sky: a mask (white: sky), or polygons of x, y, x, y, ...\n"
        "# [[files]]\n# match = \"lights/**\"\n# mask = \"trees.png\"\n# hide = [[0, 900, 1300, 820, 1300, 960, 0, "
        "960]]\n";
    return out;
}

std::string recipe_reference() {
    std::string out =
        "# The recipe\n\n"
        "`kasane.toml` in the project's folder, in TOML. It is never needed: every key has a default, and `kasane "
        "init` writes a template\nwith all of them commented out. A key that does not exist or a value that cannot "
        "be is an error that names the line, the column\nand the nearest right key.\n";
    std::string section;
    for (const Key& k : recipe_keys::all()) {
        if (section != k.section) {
            section = k.section;
            out += fmt::format("\n## [{}]\n{}.\n\n| key | type | default | meaning |\n|---|---|---|---|\n", section,
                               section_heading(section));
        }
        const std::string standard = k.standard;
        out += fmt::format("| `{}` | {} | {} | {} |\n", k.name, k.type,
                           standard.starts_with("none; ") ? "none" : fmt::format("`{}`", standard), k.meaning);
    }
    out +=
        "\n## [assume]\nWhat headers lack: used for every file where neither header, EXIF, path nor pixels say it. "
        "Any value "
        "of the table below but `turn`.\n"
        "\n## [[files]]\nWhat some files have wrong. `match` is a glob on the path relative to the project; "
        "`exclude = true` "
        "leaves the files out; any value of\nthe table below is trusted more than the header. Rules apply in their "
        "order, "
        "later ones win.\n\n```toml\n[[files]]\nmatch = \"night-2/flats/**\"\nfilter = \"Ha\"\nturn = 90      # the "
        "pixels "
        "are turned clockwise before they are used; never done unasked\n```\n\nWhat stands before the sky of some "
        "lights "
        "(trees, a roof, a landscape) is left out by `mask`, an image of the lights' size that is white where there "
        "is\nsky, or `hide`, polygons of pixels (of the turned frame): no stars are looked for there, and its pixels "
        "are no data.\n\n```toml\n[[files]]\nmatch = \"lights/**\"\nmask = \"trees.png\"\nhide = [[0, 900, 1300, "
        "820, 1300, 960, 0, 960]]\n```\n\n| value | meaning |\n|---|---|\n";
    for (int i = 0; i < kFields; ++i)
        out += fmt::format("| `{}` | {} |\n", field_name(static_cast<Field>(i)), field_meaning(static_cast<Field>(i)));
    return out;
}

} // namespace kasane
