#include <kasane/recipe/recipe.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/spelling.hpp>
#include <kasane/frames/words.hpp>
#include <kasane/recipe/keys.hpp>

#include <algorithm>
#include <fmt/format.h>
#include <fstream>
#include <optional>
#include <sstream>

namespace kasane {

using recipe_keys::Key;
using recipe_keys::Reader;
using recipe_keys::refuse;

namespace {

constexpr std::uintmax_t kLargestRecipe = 4 << 20; // bytes; a recipe is written by hand

[[noreturn]] void unknown_key(const toml::key& key, const std::filesystem::path& file, const std::string& where,
                              const std::vector<std::string>& right) {
    const std::string name(key.str()), best = nearest_word(name, right);
    std::string all;
    for (const std::string& r : right)
        all += (all.empty() ? "" : ", ") + r;
    refuse(key.source(), file, fmt::format("there is no key '{}' {}", name, where),
           best.empty() ? fmt::format("Keys there are {}", all) : fmt::format("Did you mean '{}'?", best));
}

std::vector<std::string> field_names() {
    std::vector<std::string> names;
    for (int i = 0; i < kFields; ++i)
        names.emplace_back(field_name(static_cast<Field>(i)));
    return names;
}

void read_assume(Reader& r, const toml::table& t) {
    for (const auto& [key, node] : t) {
        const auto field = field_named(key.str());
        if (!field || *field == Field::turn) {
            auto names = field_names();
            std::erase(names, "turn");
            unknown_key(key, r.file, "in [assume]", names);
        }
        r.recipe.rules.assume.push_back(r.field_value(*field, node, std::string(key.str())));
    }
}

void read_file_rule(Reader& r, const toml::table& t) {
    FileRule rule;
    for (const auto& [key, node] : t) {
        const std::string name(key.str());
        if (name == "match") {
            rule.match = r.text(node, name);
        } else if (name == "exclude") {
            rule.exclude = r.flag(node, name);
        } else if (name == "mask") {
            rule.mask = r.text(node, name);
        } else if (name == "hide") {
            rule.hide = r.polygons(node, name);
        } else if (const auto field = field_named(name)) {
            rule.values.push_back(r.field_value(*field, node, name));
        } else {
            auto names = field_names();
            names.insert(names.begin(), {"match", "exclude", "mask", "hide"});
            unknown_key(key, r.file, "in [[files]]", names);
        }
    }
    if (rule.match.empty())
        refuse(t.source(), r.file, "[[files]] does not say which files it is for", "Add match = \"night-2/flats/**\"");
    // Order of the values: a turn changes the size, everything else is free.
    r.recipe.rules.files.push_back(std::move(rule));
}

void read_section(Reader& r, const std::string& section, const toml::table& t) {
    for (const auto& [key, node] : t) {
        const auto is_it = [&section, &name = key](const Key& k) {
            return section == k.section && name.str() == k.name;
        };
        auto it = std::find_if(recipe_keys::all().begin(), recipe_keys::all().end(), is_it);
        const auto& former = recipe_keys::former();
        if (const auto old = std::find_if(former.begin(), former.end(), is_it); old != former.end()) {
            old->read(r, node, std::string(key.str()));
            r.recipe.hints.push_back(fmt::format("line {}: {} in [{}] is now written {}", key.source().begin.line,
                                                 old->name, section, old->standard));
            continue;
        }
        if (it == recipe_keys::all().end()) {
            std::vector<std::string> names;
            for (const Key& k : recipe_keys::all())
                if (section == k.section) names.emplace_back(k.name);
            unknown_key(key, r.file, fmt::format("in [{}]", section), names);
        }
        it->read(r, node, std::string(key.str()));
    }
}

/// What may stand at the top.
std::vector<std::string> table_names() {
    std::vector<std::string> names = {"assume", "files"};
    for (const Key& k : recipe_keys::all())
        if (std::find(names.begin(), names.end(), k.section) == names.end()) names.emplace_back(k.section);
    return names;
}

} // namespace

std::optional<Rejection> IntegrationRecipe::rejection_of(const std::string& filter) const {
    const auto it = by_filter.find(fold_filter(filter));
    return it == by_filter.end() ? rejection : it->second;
}

LevelModel NormalizationRecipe::of(const std::string& filter, int colour) const {
    if (const auto it = by_colour.find(colour); it != by_colour.end()) return it->second;
    const auto it = by_filter.find(fold_filter(filter));
    return it == by_filter.end() ? level : it->second;
}

ColourMethod ColourRecipe::of(const std::string& filter) const {
    const auto it = by_filter.find(fold_filter(filter));
    return it == by_filter.end() ? method : it->second;
}

std::filesystem::path recipe_file(const std::filesystem::path& folder) {
    return folder / "kasane.toml";
}

Recipe parse_recipe(const std::string& text, const std::filesystem::path& file) {
    Reader r;
    r.file = file;
    const toml::table root =
        recipe_keys::parse_toml(text, file, "Mend that line; 'kasane init' writes a template to look at");
    for (const auto& [key, node] : root) {
        const std::string name(key.str());
        if (name == "files") {
            const toml::array* rules = node.as_array();
            if (!rules)
                refuse(node.source(), file, "files must be a list of tables", "Write [[files]] with two brackets");
            for (const toml::node& rule : *rules) {
                if (!rule.as_table())
                    refuse(rule.source(), file, "files must be a list of tables", "Write [[files]] with two brackets");
                read_file_rule(r, *rule.as_table());
            }
            continue;
        }
        const std::vector<std::string> tables = table_names();
        if (std::find(tables.begin(), tables.end(), name) == tables.end()) {
            // A key outside its table: say where it belongs.
            for (const Key& k : recipe_keys::all())
                if (name == k.name)
                    refuse(key.source(), file, fmt::format("'{}' stands outside its table", name),
                           fmt::format("Put it under [{}]", k.section));
            unknown_key(key, file, "at the top", tables);
        }
        const toml::table* t = node.as_table();
        if (!t)
            refuse(node.source(), file, fmt::format("{} must be a table", name),
                   fmt::format("Write [{}] and its keys below", name));
        if (name == "assume")
            read_assume(r, *t);
        else
            read_section(r, name, *t);
    }
    return std::move(r.recipe);
}

Recipe read_recipe(const std::filesystem::path& folder) {
    const auto file = recipe_file(folder);
    std::error_code failed;
    if (!std::filesystem::exists(file, failed)) return {};
    if (!std::filesystem::is_regular_file(file, failed))
        throw InputError("is not a file, though the recipe should be", file, "Rename or remove it");
    if (std::filesystem::file_size(file, failed) > kLargestRecipe)
        throw UsageError("is too large to be a recipe", file, "Look what was copied there");
    std::ifstream in(file, std::ios::binary);
    std::stringstream text;
    text << in.rdbuf();
    if (!in) throw InputError("cannot be read", file, "Check that the file may be read");
    return parse_recipe(text.str(), file);
}

} // namespace kasane
