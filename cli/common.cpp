#include "common.hpp"

#include <kasane/base/error.hpp>
#include <kasane/base/output_file.hpp>
#include <kasane/frames/words.hpp>
#include <kasane/image/region_text.hpp>
#include <kasane/ledger/records.hpp>

#include <algorithm>
#include <cctype>
#include <cstdlib>
#include <fmt/format.h>
#include <iostream>
#include <nlohmann/json.hpp>
#include <set>
#include <spawn.h>
#include <sys/ioctl.h>
#include <unistd.h>

namespace fs = std::filesystem;

namespace kasane::cli {

void require_output(const fs::path& file, const char* what, std::initializer_list<std::string_view> endings) {
    require_replaceable(file);
    std::string ending = file.extension().string();
    std::transform(ending.begin(), ending.end(), ending.begin(),
                   [](unsigned char c) { return static_cast<char>(std::tolower(c)); });
    if (std::find(endings.begin(), endings.end(), ending) == endings.end())
        throw UsageError(fmt::format("is no name for a {}", what), file,
                         fmt::format("Let it end in {}", fmt::join(endings, " or ")));
}

void print_json(const nlohmann::json& json) {
    std::cout << json_text(json, 1) << "\n";
}

fs::path folder_of(const Arguments& a) {
    if (!a.folder.empty() && a.project != ".")
        throw UsageError("both -C and FOLDER name the project", a.folder, "Name it once");
    return a.folder.empty() ? a.project : a.folder;
}

int columns() {
    constexpr int kUsual = 100, kLeast = 60;
    winsize size{};
    if (isatty(STDOUT_FILENO) && ioctl(STDOUT_FILENO, TIOCGWINSZ, &size) == 0 && size.ws_col > 0)
        return std::max<int>(kLeast, size.ws_col);
    return kUsual;
}

RunOptions options_of(const Arguments& a) {
    RunOptions options;
    options.folder = folder_of(a);
    options.output = a.output;
    return options;
}

void open_browser(const std::string& address) {
    const char* display = std::getenv("DISPLAY");
    const char* wayland = std::getenv("WAYLAND_DISPLAY");
    if (!display && !wayland) return;
    std::string program = "xdg-open", argument = address;
    char* const arguments[] = {program.data(), argument.data(), nullptr};
    pid_t child = 0;
    posix_spawnp(&child, program.c_str(), nullptr, nullptr, arguments, environ); // the address is printed all the same
}

namespace {

Region part_of(const std::string& text) {
    if (text.empty()) return {};
    const auto part = parse_region(text);
    if (!part)
        throw UsageError(fmt::format("--part \"{}\" is no rectangle", text), {},
                         "Write x, y, width and height in pixels: --part \"1000 800 2000 1500\"");
    return *part;
}

/// Throws UsageError where a filter or night is asked for that no light has.
void require_some(const std::set<std::string>& filters, const std::set<std::string>& nights, const Arguments& a) {
    if (!a.filter.empty() && !filters.count(fold_filter(a.filter)))
        throw UsageError(fmt::format("no light has the filter {}", a.filter), {},
                         filters == std::set<std::string>{""}
                             ? std::string("None of them names a filter")
                             : fmt::format("Filters here are {}", fmt::join(filters, ", ")));
    if (!a.night.empty() && !nights.count(a.night))
        throw UsageError(fmt::format("no light is of the night {}", a.night), {},
                         fmt::format("Nights here are {}", fmt::join(nights, ", ")));
}

template <class Stacks>
void add_names(const Stacks& stacks, std::set<std::string>& filters, std::set<std::string>& nights) {
    for (const auto& s : stacks) {
        filters.insert(s.filter);
        for (const auto& f : s.frames)
            nights.insert(f.night);
    }
}

} // namespace

GradeOptions grade_options(const Arguments& a) {
    GradeOptions options;
    options.run = options_of(a);
    options.limits = a.limits;
    options.more = a.more_limits;
    options.part = part_of(a.part);
    return options;
}

void require_some(const GradeReport& report, const Arguments& a) {
    std::set<std::string> filters, nights;
    add_names(report.stacks, filters, nights);
    require_some(filters, nights, a);
}

void require_some(const AlignReport& report, const Arguments& a) {
    std::set<std::string> filters, nights;
    for (const AlignedGrid& g : report.grids)
        add_names(g.stacks, filters, nights);
    require_some(filters, nights, a);
}

} // namespace kasane::cli
