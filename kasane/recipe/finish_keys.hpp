// How the values of [finish] are read. Not for others than the recipe's files.
#pragma once

#include <kasane/recipe/keys.hpp>

namespace kasane::recipe_keys {

void read_background(Reader& r, const toml::node& n, const std::string& key);
void read_degree(Reader& r, const toml::node& n, const std::string& key);
void read_sky_boxes(Reader& r, const toml::node& n, const std::string& key);
void read_other_boxes(Reader& r, const toml::node& n, const std::string& key);
void read_palette(Reader& r, const toml::node& n, const std::string& key);
void read_sharpen(Reader& r, const toml::node& n, const std::string& key);
void read_white(Reader& r, const toml::node& n, const std::string& key);
void read_finish_onto(Reader& r, const toml::node& n, const std::string& key);
void read_crop(Reader& r, const toml::node& n, const std::string& key);
void read_quarter_turn(Reader& r, const toml::node& n, const std::string& key);
void read_bin(Reader& r, const toml::node& n, const std::string& key);
void read_shown_sky(Reader& r, const toml::node& n, const std::string& key);
void read_black(Reader& r, const toml::node& n, const std::string& key);

} // namespace kasane::recipe_keys
