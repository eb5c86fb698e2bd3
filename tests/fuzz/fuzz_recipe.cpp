// Any text as a recipe: it is read, or refused with a place.
#include <kasane/base/error.hpp>
#include <kasane/recipe/recipe.hpp>

#include <cstdint>
#include <string>

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    try {
        const kasane::Recipe recipe = kasane::parse_recipe(std::string(reinterpret_cast<const char*>(data), size));
        kasane::Exposure e;
        e.path = "night-1/lights/a.fits";
        kasane::apply_rules(e, recipe.rules);
        kasane::is_excluded(recipe.rules, e.path);
    } catch (const kasane::UsageError& e) {
        if (std::string(e.what_failed()).rfind("line ", 0) != 0) __builtin_trap();
    }
    return 0;
}
