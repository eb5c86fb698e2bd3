#include <kasane/finishing/finish_options.hpp>

#include <kasane/base/error.hpp>
#include <kasane/image/region_text.hpp>

#include <fmt/format.h>
#include <sstream>

namespace kasane {

void set_crop(FinishOptions& o, const std::string& text) {
    std::istringstream in(text);
    std::string word, rest;
    double share = 0;
    if (in >> word && word == "coverage") {
        if (!(in >> share) || in >> rest || !(share > 0 && share <= 1))
            throw UsageError(fmt::format("\"{}\" is no crop to a coverage", text), {},
                             "Say the share, above 0 to 1: \"coverage 0.9\"");
        o.covered = share, o.reshape.crop = {};
        return;
    }
    const auto region = parse_region(text);
    if (!region)
        throw UsageError(fmt::format("\"{}\" is no crop", text), {},
                         "Say x, y, width and height, \"100 100 1600 1000\", or \"coverage 0.9\"");
    o.reshape.crop = *region, o.covered = 0;
}

} // namespace kasane
