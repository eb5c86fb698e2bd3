#include <kasane/recipe/edit.hpp>

#include <kasane/grading/limits.hpp>
#include <kasane/recipe/recipe.hpp>

#include <algorithm>
#include <fmt/format.h>
#include <sstream>

#define TOML_EXCEPTIONS 1
#include <toml++/toml.h>

namespace kasane {

namespace {

/// Place of a line and column (from 1, columns counted in characters) in a text.
std::size_t place_of(const std::string& text, const toml::source_position& at) {
    std::size_t i = 0;
    for (toml::source_index line = 1; line < at.line && i < text.size(); ++i)
        line += text[i] == '\n';
    for (toml::source_index column = 1; column < at.column && i < text.size(); ++column)
        do
            ++i;
        while (i < text.size() && (static_cast<unsigned char>(text[i]) & 0xc0) == 0x80);
    return i;
}

/// One past the end of the value that begins at `from`: brackets are counted, quoted texts and comments passed over.
std::size_t end_of_value(const std::string& text, std::size_t from) {
    int depth = 0;
    for (std::size_t i = from; i < text.size(); ++i) {
        const char c = text[i];
        if (c == '"' || c == '\'') {
            const std::string three(3, c);
            const bool many = text.compare(i, 3, three) == 0;
            i += many ? 3 : 1;
            while (i < text.size() && (many ? text.compare(i, 3, three) != 0 : text[i] != c)) {
                if (c == '"' && text[i] == '\\') ++i;
                ++i;
            }
            i += many ? 2 : 0;
            if (depth == 0) return std::min(text.size(), i + 1);
        } else if (c == '#') {
            while (i < text.size() && text[i] != '\n')
                ++i;
        } else if (c == '[') {
            ++depth;
        } else if (c == ']' && --depth == 0) {
            return i + 1;
        }
    }
    return text.size();
}

std::string list_text(std::vector<std::string> limits) {
    const auto& standard = standard_limits();
    std::vector<std::string> usual;
    for (const std::string& s : standard)
        usual.push_back(limit_text(parse_limit(s)));
    for (std::string& l : limits)
        l = limit_text(parse_limit(l));
    if (limits.size() >= usual.size() && std::equal(usual.begin(), usual.end(), limits.begin())) {
        limits.erase(limits.begin(), limits.begin() + static_cast<std::ptrdiff_t>(usual.size()));
        limits.insert(limits.begin(), "standard");
    }
    std::string out = "[";
    for (const std::string& l : limits)
        out += fmt::format("{}\"{}\"", out.size() > 1 ? ",\n    " : "\n    ", l);
    return out + (limits.empty() ? "]" : ",\n]");
}

} // namespace

namespace {

/// The text with a key of a table set to a value.
std::string with_key(const std::string& text, const std::string& table, const std::string& key,
                     const std::string& value, const std::filesystem::path& file) {
    parse_recipe(text, file);
    const toml::table root = toml::parse(text);
    std::string out = text;
    if (const toml::node* node = root.at_path(table + "." + key).node()) {
        const std::size_t from = place_of(text, node->source().begin);
        out.replace(from, end_of_value(text, from) - from, value);
    } else if (const toml::table* there = root[table].as_table(); there && !there->is_inline()) {
        const std::size_t header = place_of(text, there->source().begin);
        const std::size_t line = std::min(text.find('\n', header), text.size());
        out.insert(line, fmt::format("\n{} = {}", key, value));
    } else {
        if (!out.empty() && !out.ends_with('\n')) out += '\n';
        out += fmt::format("{}[{}]\n{} = {}\n", out.empty() ? "" : "\n", table, key, value);
    }
    parse_recipe(out, file);
    return out;
}

std::string quoted(const std::string& text) {
    std::ostringstream out;
    const toml::value<std::string> value(text);
    out << toml::toml_formatter{value, toml::format_flags::none}; // always in double quotes
    return out.str();
}

} // namespace

std::string recipe_with_limits(const std::string& text, const std::vector<std::string>& limits,
                               const std::filesystem::path& file) {
    return with_key(text, "grading", "limits", list_text(limits), file);
}

std::string recipe_with_reference(const std::string& text, const std::string& reference,
                                  const std::filesystem::path& file) {
    return with_key(text, "registration", "reference", quoted(reference), file);
}

std::string recipe_with_comet_marks(const std::string& text, const std::vector<CometMark>& marks,
                                    const std::filesystem::path& file) {
    std::string list = "[";
    for (const CometMark& m : marks)
        list += m.by_header() ? fmt::format("\n    [{}],", quoted(m.file))
                              : fmt::format("\n    [{}, {:.7g}, {:.7g}],", quoted(m.file), m.x, m.y);
    return with_key(text, "comet", "marks", list + (marks.empty() ? "]" : "\n]"), file);
}

} // namespace kasane
