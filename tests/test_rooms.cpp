// The structure of the tree: which room may know of which, and whether what is written of it is so.
#include "support/places.hpp"

#include <catch2/catch.hpp>
#include <filesystem>
#include <fstream>
#include <map>
#include <regex>
#include <set>
#include <sstream>
#include <string>
#include <vector>

namespace fs = std::filesystem;
using namespace kasane::test;

namespace {

const fs::path kRoot = kSources;

std::string text_of(const fs::path& file) {
    std::ostringstream out;
    out << std::ifstream(file).rdbuf();
    return out.str();
}

/// The words of `set(NAME a b c)` in kasane/CMakeLists.txt.
std::vector<std::string> list_of(const std::string& name) {
    const std::string text = text_of(kRoot / "kasane/CMakeLists.txt");
    std::smatch found;
    REQUIRE(std::regex_search(text, found, std::regex("set\\(" + name + " ([a-z ]+)\\)")));
    std::istringstream words(found[1].str());
    return {std::istream_iterator<std::string>(words), {}};
}

/// The rooms, top down.
std::vector<std::string> rooms() {
    std::vector<std::string> all = list_of("core_rooms");
    all.push_back("sky");
    for (const std::string& room : list_of("project_rooms"))
        all.push_back(room);
    return all;
}

std::vector<fs::path> sources_of(const std::string& room) {
    std::vector<fs::path> files;
    for (const auto& entry : fs::recursive_directory_iterator(kRoot / "kasane" / room))
        if (entry.path().extension() == ".hpp" || entry.path().extension() == ".cpp") files.push_back(entry.path());
    return files;
}

/// What a file includes: `<kasane/room/...>` gives the room, all else itself.
std::vector<std::pair<std::string, std::string>> includes_of(const fs::path& file) {
    static const std::regex include(R"(#include [<"]([^>"]+)[>"])"), ours("kasane/([a-z]+)/.*");
    const std::string text = text_of(file);
    std::vector<std::pair<std::string, std::string>> out;
    for (std::sregex_iterator it(text.begin(), text.end(), include), end; it != end; ++it) {
        const std::string what = (*it)[1].str();
        std::smatch room;
        out.emplace_back(what, std::regex_match(what, room, ours) ? room[1].str() : "");
    }
    return out;
}

} // namespace

TEST_CASE("A room includes only rooms above it") {
    const std::vector<std::string> order = rooms();
    std::map<std::string, std::size_t> place;
    for (std::size_t i = 0; i < order.size(); ++i)
        place[order[i]] = i;
    for (const auto& entry : fs::directory_iterator(kRoot / "kasane"))
        if (entry.is_directory()) CHECK(place.count(entry.path().filename().string()) == 1); // no room without a place
    std::size_t files = 0;
    for (const std::string& room : order)
        for (const fs::path& file : sources_of(room)) {
            ++files;
            for (const auto& [what, other] : includes_of(file)) {
                if (other.empty()) continue;
                INFO(file.lexically_relative(kRoot).string() << " includes " << what);
                REQUIRE(place.count(other) == 1);
                CHECK(place[other] <= place[room]);
                if (room != "sky") CHECK(other != "sky"); // the simulator is beside the work, not in it
            }
        }
    CHECK(files > 100);
}

TEST_CASE("Each kind of text is known in one room only") {
    struct Rule {
        std::string library;
        std::set<std::string> rooms;
    };
    const std::vector<Rule> rules{{"SQLiteCpp/", {"ledger"}},
                                  {"toml++/", {"recipe"}},
                                  {"httplib.h", {"report"}},
                                  {"nlohmann/", {"sky", "ledger", "stages", "project", "report"}}};
    for (const std::string& room : rooms())
        for (const fs::path& file : sources_of(room))
            for (const auto& [what, unused] : includes_of(file))
                for (const Rule& rule : rules)
                    if (what.starts_with(rule.library)) {
                        INFO(file.lexically_relative(kRoot).string() << " includes " << what);
                        CHECK(rule.rooms.count(room) == 1);
                    }
}

TEST_CASE("The rooms are told of where they are looked for") {
    const std::string pages = text_of(kRoot / "docs/architecture.md");
    std::size_t last = 0;
    for (const std::string& room : rooms()) {
        INFO(room);
        const auto at = pages.find("| `" + room + "/` |");
        REQUIRE(at != std::string::npos);
        CHECK(at > last); // in their order
        last = at;
        // The header to begin with tells of all others of its room.
        const std::size_t named = pages.find('`', at + room.size() + 6) + 1;
        const fs::path begin = kRoot / "kasane" / room / pages.substr(named, pages.find('`', named) - named);
        INFO(begin);
        REQUIRE(fs::exists(begin));
        std::istringstream lines(text_of(begin));
        std::string comment;
        for (std::string line; std::getline(lines, line) && line.starts_with("//");)
            comment += line + "\n";
        for (const auto& entry : fs::directory_iterator(kRoot / "kasane" / room))
            if (entry.path().extension() == ".hpp" && entry.path() != begin) {
                INFO("tells of " << entry.path().filename());
                const std::string name = entry.path().filename().string();
                const bool told =
                    comment.find(" " + name) != std::string::npos || comment.find("(" + name) != std::string::npos;
                CHECK(told);
            }
    }
    // Every path that the pages for developers name is there.
    for (const char* page : {"CONTRIBUTING.md", "docs/architecture.md", "docs/reliability.md"}) {
        const std::string text = text_of(kRoot / page);
        static const std::regex path(R"(`((?:kasane|tests|cli|scripts|docs)/[A-Za-z0-9_./]+)`)");
        for (std::sregex_iterator it(text.begin(), text.end(), path), end; it != end; ++it) {
            INFO(page << " names " << (*it)[1].str());
            CHECK(fs::exists(kRoot / (*it)[1].str()));
        }
    }
}

TEST_CASE("Every small change that tests are held against can still be made") {
    std::istringstream lines(text_of(kRoot / "tests/mutants.txt"));
    int n = 0;
    for (std::string line; std::getline(lines, line);) {
        if (line.empty() || line.starts_with("#")) continue;
        INFO(line);
        const std::size_t first = line.find(" | "), second = line.find(" | ", first + 3);
        REQUIRE(second != std::string::npos);
        const std::string text = text_of(kRoot / line.substr(0, first));
        CHECK(text.find(line.substr(first + 3, second - first - 3)) != std::string::npos);
        ++n;
    }
    CHECK(n > 50);
}
