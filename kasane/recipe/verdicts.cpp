#include <kasane/recipe/verdicts.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/output_file.hpp>
#include <kasane/frames/rules.hpp>
#include <kasane/recipe/toml.hpp>

#include <algorithm>
#include <fmt/format.h>
#include <fstream>
#include <set>
#include <sstream>

namespace fs = std::filesystem;

namespace kasane {

using recipe_keys::refuse;

namespace {

constexpr std::uintmax_t kLargest = 16 << 20; // bytes; tens of thousands of verdicts
constexpr const char* kHeading =
    "# Verdicts of a person about single exposures; they stand over all limits. Edit freely:\n"
    "# verdict is \"keep\", \"drop\" or \"auto\" (as the limits say); file may be a glob, like\n"
    "# \"night-2/lights/L_0*\"; later entries win.\n";

std::string text_of(const toml::node& node, const fs::path& file, const std::string& key) {
    const auto text = node.value_exact<std::string>();
    if (!text || text->find('\0') != std::string::npos)
        refuse(node.source(), file, fmt::format("{} must be text in quotes", key),
               fmt::format("Write {} = \"...\"", key));
    return *text;
}

bool is_glob(const std::string& text) {
    return text.find_first_of("*?[") != std::string::npos;
}

/// A TOML basic string.
std::string quoted(const std::string& text) {
    std::ostringstream out;
    out << toml::value<std::string>(text);
    std::string s = out.str();
    if (s.find('\n') == std::string::npos && !s.starts_with("'''") && !s.starts_with("\"\"\"")) return s;
    std::string plain = "\"";
    for (const char c : text)
        plain += c == '\n' || c == '\r'  ? std::string(" ")
                 : c == '"' || c == '\\' ? std::string("\\") + c
                                         : std::string(1, c);
    return plain + "\"";
}

const char* word_of(const std::optional<Decision>& d) {
    return !d ? "auto" : d->keep ? "keep" : "drop";
}

std::string entry_text(const VerdictChange& c) {
    std::string out = fmt::format("[[verdict]]\nfile = {}\nverdict = \"{}\"\n", quoted(c.path), word_of(c.decision));
    if (c.decision && !c.decision->note.empty()) out += fmt::format("note = {}\n", quoted(c.decision->note));
    if (!c.content.empty()) out += fmt::format("content = {}\n", quoted(c.content));
    return out;
}

} // namespace

fs::path verdict_file(const fs::path& folder) {
    return folder / "verdicts.toml";
}

VerdictFile VerdictFile::parse(const std::string& text, const fs::path& file) {
    VerdictFile out;
    out.text_ = text;
    const toml::table root =
        recipe_keys::parse_toml(text, file, "Mend that line; nothing in the file is changed before");
    for (const auto& [key, node] : root) {
        if (key.str() != "verdict")
            refuse(key.source(), file, fmt::format("there is no key '{}' here", std::string(key.str())),
                   "Verdicts are tables: [[verdict]] with file and verdict below");
        const toml::array* all = node.as_array();
        if (!all)
            refuse(node.source(), file, "verdict must be a list of tables", "Write [[verdict]] with two brackets");
        for (const toml::node& one : *all) {
            const toml::table* t = one.as_table();
            if (!t)
                refuse(one.source(), file, "verdict must be a list of tables", "Write [[verdict]] with two brackets");
            Entry e;
            bool decided = false;
            e.first_line = e.last_line = static_cast<int>(t->source().begin.line);
            for (const auto& [name, value] : *t) {
                e.last_line = std::max({e.last_line, static_cast<int>(value.source().end.line),
                                        static_cast<int>(value.source().begin.line)});
                if (name.str() == "file") {
                    e.file = text_of(value, file, "file");
                } else if (name.str() == "content") {
                    e.content = text_of(value, file, "content");
                } else if (name.str() == "note") {
                    e.note = text_of(value, file, "note");
                } else if (name.str() == "verdict") {
                    const std::string word = text_of(value, file, "verdict");
                    if (word != "keep" && word != "drop" && word != "auto")
                        refuse(value.source(), file, fmt::format("\"{}\" is no verdict", word),
                               "Write \"keep\", \"drop\" or \"auto\"");
                    e.kind = word == "keep"   ? Entry::Kind::keep
                             : word == "drop" ? Entry::Kind::drop
                                              : Entry::Kind::automatic;
                    decided = true;
                } else {
                    refuse(name.source(), file,
                           fmt::format("there is no key '{}' in [[verdict]]", std::string(name.str())),
                           "Keys there are file, verdict, note, content");
                }
            }
            if (e.file.empty() && e.content.empty())
                refuse(t->source(), file, "this verdict does not say which file it is for", "Add file = \"...\"");
            if (!decided) refuse(t->source(), file, "this entry has no verdict", "Add verdict = \"keep\" or \"drop\"");
            out.entries_.push_back(std::move(e));
        }
    }
    return out;
}

VerdictFile VerdictFile::read(const fs::path& file) {
    std::error_code failed;
    if (!fs::exists(file, failed)) return {};
    if (!fs::is_regular_file(file, failed))
        throw InputError("is not a file, though verdicts should be in it", file, "Rename or remove it");
    if (fs::file_size(file, failed) > kLargest)
        throw UsageError("is too large to hold verdicts", file, "Look what was copied there");
    std::ifstream in(file, std::ios::binary);
    std::stringstream text;
    text << in.rdbuf();
    if (!in) throw InputError("cannot be read", file, "Check that the file may be read");
    return parse(text.str(), file);
}

bool VerdictFile::fits(const Entry& e, const std::string& path, const std::string& content) {
    if (!e.content.empty()) return e.content == content;
    return e.file == path || (is_glob(e.file) && glob_matches(e.file, path));
}

std::optional<Decision> VerdictFile::decision(const Exposure& exposure) const {
    return decision(exposure.path, exposure.fingerprint);
}

std::optional<Decision> VerdictFile::decision(const std::string& path, const std::string& content) const {
    for (auto e = entries_.rbegin(); e != entries_.rend(); ++e) {
        if (!fits(*e, path, content)) continue;
        if (e->kind == Entry::Kind::automatic) return std::nullopt;
        return Decision{e->kind == Entry::Kind::keep, e->note};
    }
    return std::nullopt;
}

std::vector<Finding> VerdictFile::unused(const std::vector<Exposure>& exposures) const {
    std::vector<Finding> out;
    for (const Entry& e : entries_)
        if (std::none_of(exposures.begin(), exposures.end(),
                         [&](const Exposure& x) { return fits(e, x.path, x.fingerprint); }))
            out.push_back({Level::note,
                           "verdict-without-file",
                           {e.file.empty() ? "verdicts.toml" : e.file},
                           fmt::format("line {} of verdicts.toml is about {}, which is not among the exposures",
                                       e.first_line, e.file.empty() ? "content " + e.content : e.file),
                           "It is kept in case the file comes back; delete the entry if it will not"});
    return out;
}

std::string VerdictFile::with(const std::vector<VerdictChange>& changes) const {
    std::set<std::size_t> removed;
    std::string added;
    for (const VerdictChange& c : changes) {
        VerdictFile rest; // what others, more general, say
        for (std::size_t i = 0; i < entries_.size(); ++i) {
            if (!fits(entries_[i], c.path, c.content)) continue;
            if (!entries_[i].content.empty() || !is_glob(entries_[i].file) || entries_[i].file == c.path)
                removed.insert(i);
            else
                rest.entries_.push_back(entries_[i]);
        }
        const auto otherwise = rest.decision(c.path, c.content);
        const bool same = otherwise.has_value() == c.decision.has_value() &&
                          (!otherwise || (otherwise->keep == c.decision->keep && otherwise->note == c.decision->note));
        if (!same) added += (added.empty() ? "" : "\n") + entry_text(c);
    }
    std::set<int> lines;
    for (const std::size_t i : removed)
        for (int l = entries_[i].first_line; l <= entries_[i].last_line; ++l)
            lines.insert(l);
    std::istringstream in(text_);
    std::string out, line;
    bool after_removed = false;
    for (int number = 1; std::getline(in, line); ++number) {
        if (lines.count(number)) {
            after_removed = true;
            continue;
        }
        if (after_removed && line.find_first_not_of(" \t\r") == std::string::npos &&
            (out.empty() || out.ends_with("\n\n")))
            continue; // no heap of empty lines where entries were
        after_removed = false;
        out += line + "\n";
    }
    if (added.empty()) return out;
    if (out.empty()) out = kHeading;
    if (!out.ends_with("\n\n")) out += "\n";
    return out + added;
}

std::string save_verdicts(const fs::path& folder, const std::vector<VerdictChange>& changes) {
    const fs::path file = verdict_file(folder);
    const VerdictFile now = VerdictFile::read(file);
    const std::string text = now.with(changes);
    VerdictFile::parse(text, file); // what is written can be read
    if (text != now.text()) write_text_safely(file, text, Over::anything);
    return now.text();
}

} // namespace kasane
