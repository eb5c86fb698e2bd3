#include <kasane/recipe/keys.hpp>

#include <kasane/base/error.hpp>
#include <kasane/frames/words.hpp>

#include <cmath>
#include <fmt/format.h>
#include <optional>
#include <sstream>

namespace kasane::recipe_keys {

void Reader::wrong(const toml::node& node, const std::string& key, const std::string& wanted) const {
    refuse(node.source(), file, fmt::format("{} must be {}", key, wanted), fmt::format("Write {} as {}", key, wanted));
}
double Reader::number(const toml::node& n, const std::string& key, double low, double high, const char* wanted) const {
    const auto v = n.value_exact<double>()         ? n.value_exact<double>()
                   : n.value_exact<std::int64_t>() ? std::optional(static_cast<double>(*n.value_exact<std::int64_t>()))
                                                   : std::nullopt;
    if (!v || !(*v >= low && *v <= high)) wrong(n, key, wanted);
    return *v;
}
bool Reader::flag(const toml::node& n, const std::string& key) const {
    const auto v = n.value_exact<bool>();
    if (!v) wrong(n, key, "true or false");
    return *v;
}
std::string Reader::text(const toml::node& n, const std::string& key) const {
    const auto v = n.value_exact<std::string>();
    if (!v) wrong(n, key, "text in quotes");
    if (v->find('\0') != std::string::npos) wrong(n, key, "text without zero bytes");
    return *v;
}
std::vector<std::string> Reader::list(const toml::node& n, const std::string& key) const {
    std::vector<std::string> out;
    if (n.is_string()) return {text(n, key)};
    const toml::array* a = n.as_array();
    if (!a) wrong(n, key, "a list of texts, [\"...\"]");
    for (const toml::node& e : *a)
        out.push_back(text(e, key));
    return out;
}
std::vector<Polygon> Reader::polygons(const toml::node& n, const std::string& key) const {
    constexpr const char* kWanted = "a list of polygons, each a list of x, y, x, y, ... of at least three corners";
    constexpr double kFar = 1e6; // pixels
    constexpr std::size_t kLeast = 6;
    std::vector<Polygon> out;
    const toml::array* all = n.as_array();
    if (!all) wrong(n, key, kWanted);
    for (const toml::node& one : *all) {
        const toml::array* numbers = one.as_array();
        if (!numbers || numbers->size() < kLeast || numbers->size() % 2) wrong(one, key, kWanted);
        Polygon p;
        for (std::size_t i = 0; i < numbers->size(); i += 2)
            p.emplace_back(number(*numbers->get(i), key, -kFar, kFar, kWanted),
                           number(*numbers->get(i + 1), key, -kFar, kFar, kWanted));
        out.push_back(std::move(p));
    }
    return out;
}

ColourMethod Reader::method(const toml::node& n, const std::string& key) const {
    const auto m = colour_method_named(text(n, key));
    if (!m) wrong(n, key, "\"adaptive\", \"bilinear\", \"binned\", \"separate\", \"red\", \"green\" or \"blue\"");
    return *m;
}
std::string Reader::value(const toml::node& n, const std::string& key) const {
    if (const auto s = n.value_exact<std::string>()) return *s;
    if (const auto i = n.value_exact<std::int64_t>()) return fmt::format("{}", *i);
    if (const auto d = n.value_exact<double>(); d && std::isfinite(*d)) return fmt::format("{:.10g}", *d);
    if (const auto b = n.value_exact<bool>()) return *b ? "true" : "false";
    std::ostringstream date;
    if (n.is_date()) date << *n.as_date();
    if (n.is_date_time()) date << *n.as_date_time();
    if (date.str().empty()) wrong(n, key, "a number, a text, a date, true or false");
    return date.str();
}
std::pair<Field, std::string> Reader::field_value(Field field, const toml::node& n, const std::string& key) const {
    const std::string v = value(n, key);
    Exposure trial;
    const std::string problem = set_value(trial, field, v, {Origin::recipe, {}});
    if (!problem.empty())
        refuse(n.source(), file, fmt::format("{}: {}", key, problem),
               fmt::format("Give {}: {}", key, field_meaning(field)));
    return {field, v};
}
} // namespace kasane::recipe_keys
