// Manual pages, completion and the version: what an installed command has beside itself.
#include "support/support.hpp"

#include <catch2/catch.hpp>
#include <fmt/format.h>
#include <fstream>
#include <set>
#include <sstream>

using namespace kasane;
using namespace kasane::test;
namespace fs = std::filesystem;

namespace {

/// The long options that a help names at the beginning of its lines.
std::set<std::string> options_of(const std::string& help) {
    std::set<std::string> out;
    std::istringstream in(help);
    for (std::string line; std::getline(in, line);) {
        const auto at = line.find("--");
        if (!line.starts_with("  -") || at == std::string::npos || at > 6) continue;
        out.insert(line.substr(at, line.find_first_of(" \t", at) - at));
    }
    return out;
}

std::string plain(std::string page) { // without what only men and women of roff want to see
    for (const char* mark : {"\\fB", "\\fR", "\\fI", "\\&"})
        for (auto at = page.find(mark); at != std::string::npos; at = page.find(mark))
            page.erase(at, 3 - (mark[1] == '&'));
    for (auto at = page.find("\\-"); at != std::string::npos; at = page.find("\\-"))
        page.erase(at, 1);
    return page;
}

/// What bash offers after these words, the last of which is not finished.
std::string completed(const fs::path& folder, const std::string& words) {
    const Outcome o = shell(
        fmt::format("cd {} && bash -c 'source ./kasane.bash; COMP_WORDS=({}); COMP_CWORD=$((${{#COMP_WORDS[@]}} - "
                    "1)); compopt() {{ :; }}; _kasane; echo \"${{COMPREPLY[@]}}\"'",
                    folder.string(), words));
    CHECK(o.err.empty());
    return o.out;
}

} // namespace

TEST_CASE("Every verb has a manual page that tells all of its options, and no formatter minds") {
    const TemporaryFolder folder;
    const fs::path pages = folder / "man1";
    REQUIRE(shell("{kasane} --manual-pages " + pages.string()).status == 0);
    int count = 0;
    for (const auto& e : fs::directory_iterator(pages)) {
        const std::string name = e.path().stem().string(), verb = name == "kasane" ? "" : name.substr(7);
        const std::string page = plain(read_file(e.path())), help = shell("{kasane} " + verb + " --help").out;
        INFO(name);
        ++count;
        CHECK_THAT(page, Catch::StartsWith(".\\\"") && Catch::Contains(".TH " + name + " 1"));
        for (const std::string& option : options_of(help))
            CHECK_THAT(page, Catch::Contains(option));
        for (const char* section : {"NAME", "SYNOPSIS", "DESCRIPTION", "OPTIONS", "EXIT STATUS"})
            CHECK_THAT(page, Catch::Contains(fmt::format("\n.SH {}\n", section)));
        const Outcome formatted = shell("groff -man -Tutf8 -ww " + e.path().string());
        CHECK(formatted.status == 0);
        CHECK(formatted.err.empty());
        CHECK_THAT(formatted.out, Catch::Contains("Kasane"));
    }
    CHECK(count >= 17); // the command, and its verbs
    CHECK(options_of(shell("{kasane} run --help").out).count("--reference") == 1);
    CHECK(shell("{kasane} --manual-pages /proc/none").status == 3);
}

TEST_CASE("Shells complete verbs, options and words") {
    const TemporaryFolder folder;
    REQUIRE(shell(fmt::format("{{kasane}} --completion bash > {}/kasane.bash", folder.path().string())).status == 0);
    fs::create_directory(folder / "nights");
    std::ofstream(folder / "master.fits") << "x";
    CHECK(completed(folder.path(), "kasane fin") == "finish\n");
    CHECK_THAT(completed(folder.path(), "kasane re"), Catch::Contains("review") && Catch::Contains("report"));
    CHECK_THAT(completed(folder.path(), "kasane finish --sh"), Catch::Equals("--sharpen\n"));
    CHECK_THAT(completed(folder.path(), "kasane finish --st"), Catch::Equals("--stretch\n"));
    CHECK_THAT(completed(folder.path(), "kasane demo --variant pan"), Catch::Equals("panels\n"));
    CHECK_THAT(completed(folder.path(), "kasane run -C ni"), Catch::Equals("nights\n"));
    CHECK_THAT(completed(folder.path(), "kasane show mas"), Catch::Equals("master.fits\n"));
    CHECK_THAT(completed(folder.path(), "kasane export fr"), Catch::Equals("frames\n"));
    CHECK_THAT(shell("{kasane} --completion zsh").out, Catch::StartsWith("#compdef kasane\n"));
    CHECK_THAT(shell("{kasane} --completion fish").out, Catch::Contains("-l sharpen"));
    const Outcome o = shell("{kasane} --completion csh");
    CHECK(o.status == 2);
    CHECK_THAT(o.err, Catch::Contains("bash, zsh or fish"));
}

TEST_CASE("The version names the libraries that are used") {
    const Outcome o = shell("{kasane} --version");
    CHECK(o.status == 0);
    CHECK_THAT(o.out,
               Catch::StartsWith("kasane ") && Catch::Contains("\n  cfitsio ") && Catch::Contains("\n  SQLite 3."));
    CHECK_THAT(o.out, !Catch::Contains("unknown"));
}
