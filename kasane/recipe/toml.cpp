#include <kasane/recipe/toml.hpp>

#include <kasane/base/error.hpp>

#include <fmt/format.h>

namespace kasane::recipe_keys {

void refuse(const toml::source_region& at, const std::filesystem::path& file, const std::string& what,
            const std::string& remedy) {
    throw UsageError(fmt::format("line {}, column {}: {}", at.begin.line, at.begin.column, what), file, remedy);
}

toml::table parse_toml(const std::string& text, const std::filesystem::path& file, const std::string& remedy) {
    try {
        return toml::parse(text, file.string());
    } catch (const toml::parse_error& e) {
        refuse(e.source(), file, std::string(e.description()), remedy);
    }
}

} // namespace kasane::recipe_keys
