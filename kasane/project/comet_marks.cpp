#include <kasane/project/comet_marks.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/output_file.hpp>
#include <kasane/base/units.hpp>
#include <kasane/recipe/edit.hpp>
#include <kasane/stages/open_project.hpp>
#include <kasane/stages/reference_groups.hpp>

#include <algorithm>
#include <charconv>
#include <cmath>
#include <fmt/format.h>

namespace fs = std::filesystem;

namespace kasane {

namespace {

constexpr const char* kExample = "Write the file and the pixel: \"night-1/lights/L_001.fits 243 284\"; or the file "
                                 "alone, if its header says where the comet is";

/// The last word of a text, taken off it.
std::string last_word(std::string& text) {
    constexpr const char* kBlank = " \t";
    const auto end = text.find_last_not_of(kBlank);
    if (end == std::string::npos) return {};
    const auto space = text.find_last_of(kBlank, end);
    const auto from = space == std::string::npos ? 0 : space + 1;
    std::string word = text.substr(from, end + 1 - from);
    text.resize(from);
    return word;
}

/// File names may hold blanks: the numbers are the last two words.
CometMark mark_of(const std::string& wish) {
    std::string rest = wish;
    const std::string y = last_word(rest), x = last_word(rest);
    CometMark mark;
    const auto number = [&](const std::string& text, double& value) {
        const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), value);
        constexpr double kMost = 1e6; // as the recipe has it
        return error == std::errc{} && end == text.data() + text.size() && std::abs(value) <= kMost;
    };
    const auto trimmed = [](std::string text) {
        while (!text.empty() && (text.back() == ' ' || text.back() == '\t'))
            text.pop_back();
        return text;
    };
    mark.file = trimmed(rest);
    if (double last = 0; !y.empty() && !number(y, last)) { // no pixel: its header tells
        mark = {trimmed(wish), kNoData, kNoData};
        return mark;
    }
    if (mark.file.empty() || !number(x, mark.x) || !number(y, mark.y))
        throw UsageError(fmt::format("\"{}\" is no mark of a comet", wish), {}, kExample);
    return mark;
}

const Exposure& light_named(const Session& s, const CometMark& mark) {
    std::vector<const Exposure*> named;
    for (const Exposure& e : s.exposures)
        if (e.role == Role::light && names_exposure(mark.file, s.options.folder, e.path)) named.push_back(&e);
    if (named.empty())
        throw UsageError(fmt::format("\"{}\" is no light of the project, so that no comet is on it", mark.file),
                         s.options.folder, "Write the path as 'kasane grade' shows it");
    if (named.size() > 1)
        throw UsageError(fmt::format("\"{}\" names {} lights: {}, {}{}", mark.file, named.size(), named[0]->path,
                                     named[1]->path, named.size() > 2 ? ", ..." : ""),
                         s.options.folder, "Write the whole path of one");
    return *named.front();
}

} // namespace

std::vector<CometMark> keep_comet_marks(const RunOptions& options, const std::vector<std::string>& wishes,
                                        const Context& context) {
    require_exposure_folder(options.folder);
    const bool none = std::find(wishes.begin(), wishes.end(), "none") != wishes.end();
    if (none && wishes.size() > 1)
        throw UsageError("\"none\" takes all marks of a comet out, but others are named beside it", {},
                         "Take them out first, then mark the comet");
    std::vector<CometMark> fresh;
    for (const std::string& wish : wishes)
        if (wish != "none") fresh.push_back(mark_of(wish));
    if (!none) {
        const OpenProject project(options, context, {.use = Ledger::Use::look});
        for (CometMark& m : fresh) {
            const Exposure& e = light_named(project.session, m);
            if (!m.by_header() && !(m.x >= -0.5 && m.y >= -0.5 && m.x <= e.width - 0.5 && m.y <= e.height - 0.5))
                throw UsageError(
                    fmt::format("a comet cannot be at ({:g}, {:g}) on {}: it has {} x {} pixels, the upper left one "
                                "being (0, 0)",
                                m.x, m.y, e.path, e.width, e.height),
                    options.folder, kExample);
            if (!e.time)
                throw UsageError(
                    fmt::format("nothing says when {} was taken, so that a mark on it leads nowhere", e.path),
                    options.folder, "Mark another light, or give its time in [[files]]");
            m.file = e.path;
        }
    }
    const fs::path file = recipe_file(options.folder);
    const std::string before = content_of(file).value_or("");
    std::vector<CometMark> marks = parse_recipe(before, file).comet;
    if (none && marks.empty()) return {}; // nothing to take out
    if (none) marks.clear();
    for (const CometMark& m : fresh) {
        const auto same =
            std::find_if(marks.begin(), marks.end(), [&](const CometMark& o) { return o.file == m.file; });
        if (same == marks.end())
            marks.push_back(m);
        else
            *same = m;
    }
    if (const std::string after = recipe_with_comet_marks(before, marks, file); after != before)
        write_text_safely(file, after, Over::anything);
    return marks;
}

} // namespace kasane
