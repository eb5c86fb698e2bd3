// How the values of [integration], [drizzle] and [comet] are read. Not for others than the recipe's files.
#pragma once

#include <kasane/recipe/keys.hpp>

namespace kasane::recipe_keys {

void read_rejection(Reader& r, const toml::node& n, const std::string& key);
void read_rejection_filters(Reader& r, const toml::node& n, const std::string& key);
void read_combination(Reader& r, const toml::node& n, const std::string& key);
void read_grow(Reader& r, const toml::node& n, const std::string& key);
void read_feather(Reader& r, const toml::node& n, const std::string& key);
void read_also(Reader& r, const toml::node& n, const std::string& key);
void read_comet_marks(Reader& r, const toml::node& n, const std::string& key);
void read_drizzle_scale(Reader& r, const toml::node& n, const std::string& key);
void read_drop(Reader& r, const toml::node& n, const std::string& key);
void read_restore(Reader& r, const toml::node& n, const std::string& key);
void read_drop_shape(Reader& r, const toml::node& n, const std::string& key);
void read_weights(Reader& r, const toml::node& n, const std::string& key);

} // namespace kasane::recipe_keys
