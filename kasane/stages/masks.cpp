#include <kasane/stages/masks.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/hash.hpp>
#include <kasane/frames/rules.hpp>
#include <kasane/image/polygon.hpp>
#include <kasane/io/input_file.hpp>
#include <kasane/io/reader.hpp>

#include <algorithm>
#include <fmt/format.h>

namespace fs = std::filesystem;

namespace kasane {

namespace {

std::vector<const FileRule*> rules_for(const Session& s, const Exposure& e) {
    std::vector<const FileRule*> out;
    for (const FileRule& rule : s.recipe.rules.files)
        if ((!rule.mask.empty() || !rule.hide.empty()) && glob_matches(rule.match, e.path)) out.push_back(&rule);
    return out;
}

/// Hides what is not white.
void add_image(const fs::path& file, PixelCache* cache, Mask& hidden) {
    const auto reader = open_frame(file, cache);
    if (reader->width() != hidden.width() || reader->height() != hidden.height())
        throw UnfitError(fmt::format("is a mask of {} x {} pixels for lights of {} x {}", reader->width(),
                                     reader->height(), hidden.width(), hidden.height()),
                         file, "Draw it on one of the lights");
    Image sum(hidden.width(), hidden.height());
    for (int p = 0; p < reader->planes(); ++p) {
        const Image plane = read_plane(*reader, p);
        for (std::size_t i = 0; i < sum.pixels().size(); ++i)
            sum.pixels()[i] += plane.pixels()[i];
    }
    const float white = *std::max_element(sum.pixels().begin(), sum.pixels().end());
    for (std::size_t i = 0; i < sum.pixels().size(); ++i)
        if (!(sum.pixels()[i] > 0.5f * white)) hidden.pixels()[i] = 1;
}

} // namespace

void settle_masks(Session& s) {
    for (const StackPlan& plan : s.pairing.stacks)
        for (const LightPlan& l : plan.lights) {
            const Exposure& e = s.exposures[l.exposure];
            for (const FileRule* rule : rules_for(s, e)) {
                if (rule->mask.empty()) continue;
                const fs::path file = s.options.folder / rule->mask;
                auto& known = s.masks[rule->mask];
                if (known.digest.empty()) {
                    const auto failure = attempt([&] {
                        const FrameSummary summary = read_summary(file);
                        known.width = summary.width, known.height = summary.height;
                        known.digest = content_digest(file);
                    });
                    if (failure)
                        throw UsageError(fmt::format("the mask {} of [[files]] {} {}", rule->mask, rule->match,
                                                     failure->what_failed),
                                         recipe_file(s.options.folder), "Put it there, or mend mask");
                }
                if (known.width != e.width || known.height != e.height)
                    throw UsageError(fmt::format("the mask {} of [[files]] is {} x {} pixels, but {} is {} x {}",
                                                 rule->mask, known.width, known.height, e.path, e.width, e.height),
                                     recipe_file(s.options.folder),
                                     "Draw it on one of the lights it is for, and let match name only those");
            }
        }
}

std::string mask_key(const Session& s, const Exposure& e) {
    const auto rules = rules_for(s, e);
    if (rules.empty()) return {};
    Digester d;
    for (const FileRule* rule : rules) {
        const auto known = s.masks.find(rule->mask);
        d.add(known == s.masks.end() ? rule->mask : known->second.digest);
        for (const Polygon& polygon : rule->hide) {
            d.add("polygon");
            for (const auto& [x, y] : polygon)
                d.add(x).add(y);
        }
    }
    return d.result();
}

std::shared_ptr<const Mask> mask_of(const Session& s, const Exposure& e) {
    const auto rules = rules_for(s, e);
    if (rules.empty()) return nullptr;
    auto& drawn = s.drawn_masks[fmt::format("{} {} {}", mask_key(s, e), e.width, e.height)];
    if (drawn) return drawn;
    Mask hidden(e.width, e.height);
    for (const FileRule* rule : rules) {
        if (!rule->mask.empty()) add_image(s.options.folder / rule->mask, &s.cache, hidden);
        for (const Polygon& polygon : rule->hide)
            fill_polygon(polygon, hidden);
    }
    return drawn = std::make_shared<const Mask>(std::move(hidden));
}

} // namespace kasane
