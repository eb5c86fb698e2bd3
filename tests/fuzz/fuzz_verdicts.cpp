// Verdicts by hand and limits, from any text.
#include <kasane/base/error.hpp>
#include <kasane/recipe/edit.hpp>
#include <kasane/recipe/verdicts.hpp>

#include <cstdint>
#include <optional>
#include <string>

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    const std::string text(reinterpret_cast<const char*>(data), size);
    // What can be read can be changed and written, and read again.
    std::optional<kasane::VerdictFile> file;
    std::optional<kasane::Limit> limit;
    try {
        file = kasane::VerdictFile::parse(text);
    } catch (const kasane::UsageError&) {
    }
    if (file) kasane::VerdictFile::parse(file->with({{"a.fits", "1", kasane::Decision{false, text.substr(0, 40)}}}));
    try {
        limit = kasane::parse_limit(text.substr(0, 300));
    } catch (const kasane::UsageError&) {
    }
    if (limit) kasane::parse_limit(kasane::limit_text(*limit));
    try {
        kasane::recipe_with_limits(text, {"fwhm > 3 px"});
    } catch (const kasane::UsageError&) {
    }
    return 0;
}
