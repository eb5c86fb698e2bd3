// How the values of [canvas] are read. Not for others than the recipe's files.
#pragma once

#include <kasane/recipe/keys.hpp>

namespace kasane::recipe_keys {

void read_frame(Reader& r, const toml::node& n, const std::string& key);
void read_common_share(Reader& r, const toml::node& n, const std::string& key);
void read_turn(Reader& r, const toml::node& n, const std::string& key);
void read_mirror(Reader& r, const toml::node& n, const std::string& key);
void read_scale(Reader& r, const toml::node& n, const std::string& key);

} // namespace kasane::recipe_keys
