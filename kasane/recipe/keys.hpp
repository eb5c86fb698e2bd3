// How values of the recipe are read from TOML, and refused with their place. Not for others than the recipe's files.
#pragma once

#include <kasane/recipe/recipe.hpp>
#include <kasane/recipe/toml.hpp>

#include <filesystem>
#include <string>
#include <utility>
#include <vector>

namespace kasane::recipe_keys {

/// A recipe while it is read.
struct Reader {
    Recipe recipe;
    std::filesystem::path file;

    [[noreturn]] void wrong(const toml::node& node, const std::string& key, const std::string& wanted) const;
    double number(const toml::node& n, const std::string& key, double low, double high, const char* wanted) const;
    bool flag(const toml::node& n, const std::string& key) const;
    std::string text(const toml::node& n, const std::string& key) const;
    std::vector<std::string> list(const toml::node& n, const std::string& key) const;
    std::vector<Polygon> polygons(const toml::node& n, const std::string& key) const;
    ColourMethod method(const toml::node& n, const std::string& key) const;
    /// A value of a record, whatever its TOML type.
    std::string value(const toml::node& n, const std::string& key) const;
    std::pair<Field, std::string> field_value(Field field, const toml::node& n, const std::string& key) const;
};

/// 0 to 1: a number, or text like "2 %".
double share_of(const Reader& r, const toml::node& n, const std::string& key);

/// One key: what it is called, means and defaults to, and how its value is read.
struct Key {
    const char* section;
    const char* name;
    const char* type;
    const char* standard; ///< the default as TOML, or an example after "none; "
    const char* meaning;
    void (*read)(Reader&, const toml::node&, const std::string& key);
};

/// All of them, section by section.
const std::vector<Key>& all();
/// Those that had other names once and are still read; `standard` says how they are written now.
const std::vector<Key>& former();

} // namespace kasane::recipe_keys
