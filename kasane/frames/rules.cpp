#include <kasane/frames/rules.hpp>

#include <algorithm>
#include <fmt/format.h>
#include <fnmatch.h>

namespace kasane {

namespace {

std::vector<std::string> components(const std::string& path) {
    std::vector<std::string> out(1);
    for (const char c : path)
        if (c == '/')
            out.emplace_back();
        else
            out.back() += c;
    return out;
}

bool components_match(const std::vector<std::string>& p, std::size_t i, const std::vector<std::string>& s,
                      std::size_t j) {
    if (i == p.size()) return j == s.size();
    if (p[i] == "**") {
        for (std::size_t k = j; k <= s.size(); ++k)
            if (components_match(p, i + 1, s, k)) return true;
        return false;
    }
    return j < s.size() && fnmatch(p[i].c_str(), s[j].c_str(), 0) == 0 && components_match(p, i + 1, s, j + 1);
}

/// A component of a layout: text and fields in turn.
struct Part {
    std::string text;
    std::optional<Field> field; ///< nothing for {}
    bool any = false;           ///< a pair of braces
};

std::string parse_component(const std::string& component, std::vector<Part>& parts) {
    for (std::size_t at = 0; at < component.size();) {
        if (component[at] == '}') return "a brace is closed that was not opened";
        if (component[at] != '{') {
            const std::size_t end = std::min(component.find_first_of("{}", at), component.size());
            parts.push_back({component.substr(at, end - at), {}, false});
            at = end;
            continue;
        }
        const std::size_t end = component.find('}', at);
        if (end == std::string::npos) return "a brace is left open";
        const std::string name = component.substr(at + 1, end - at - 1);
        const auto field = field_named(name);
        if (!name.empty() && !field) return fmt::format("there is no value called {}", name);
        if (!parts.empty() && parts.back().any) return "two values stand together; put a sign between them";
        parts.push_back({{}, field, true});
        at = end + 1;
    }
    return {};
}

/// Matches one component; values are gathered. The last pair of braces takes the rest, others as little as they can.
bool component_fits(const std::vector<Part>& parts, const std::string& name,
                    std::vector<std::pair<Field, std::string>>& values) {
    std::size_t at = 0;
    for (std::size_t i = 0; i < parts.size(); ++i) {
        const Part& part = parts[i];
        if (!part.any) {
            if (name.compare(at, part.text.size(), part.text) != 0) return false;
            at += part.text.size();
            continue;
        }
        std::size_t end = name.size();
        if (i + 1 < parts.size()) {
            end = i + 2 == parts.size() ? name.rfind(parts[i + 1].text) : name.find(parts[i + 1].text, at + 1);
            if (end == std::string::npos) return false;
        }
        if (end <= at) return false;
        if (part.field) values.emplace_back(*part.field, name.substr(at, end - at));
        at = end;
    }
    return at == name.size();
}

void apply_layout(Exposure& e, const std::string& layout) {
    const auto wanted = components(layout), found = components(e.path);
    if (wanted.size() > found.size()) return;
    std::vector<std::pair<Field, std::string>> values;
    for (std::size_t i = 0; i < wanted.size(); ++i) {
        std::vector<Part> parts;
        parse_component(wanted[i], parts);
        if (!component_fits(parts, found[i], values)) return;
    }
    Exposure with = e;
    for (const auto& [field, text] : values)
        if (!set_value(with, field, text, {Origin::recipe, fmt::format("layout {}", layout)}).empty())
            return; // "dew-heater" is no role: another shape
    e = std::move(with);
}

} // namespace

bool glob_matches(const std::string& pattern, const std::string& path) {
    if (pattern.find('/') == std::string::npos && pattern != "**")
        return fnmatch(pattern.c_str(), path.substr(path.rfind('/') + 1).c_str(), 0) == 0;
    return components_match(components(pattern), 0, components(path), 0);
}

bool is_excluded(const FrameRules& rules, const std::string& path) {
    const auto matches = [&](const std::string& glob) { return glob_matches(glob, path); };
    return std::any_of(rules.exclude.begin(), rules.exclude.end(), matches) ||
           std::any_of(rules.files.begin(), rules.files.end(),
                       [&](const FileRule& r) { return r.exclude && matches(r.match); });
}

void apply_rules(Exposure& e, const FrameRules& rules) {
    for (const std::string& layout : rules.layouts)
        apply_layout(e, layout);
    for (const FileRule& rule : rules.files) {
        if (!glob_matches(rule.match, e.path)) continue;
        for (const auto& [field, text] : rule.values) {
            const std::string problem =
                set_value(e, field, text, {Origin::recipe, fmt::format("files {}", rule.match)});
            if (!problem.empty()) e.problems.push_back(fmt::format("recipe, files {}: {}", rule.match, problem));
        }
    }
    for (const auto& [field, text] : rules.assume) {
        const bool silent = e.source(field).origin == Origin::none;
        const bool fits = field != Field::cfa || e.planes == 1;
        if (silent && fits) set_value(e, field, text, {Origin::assumed, "by the recipe"});
    }
}

std::string layout_problem(const std::string& layout) {
    for (const std::string& component : components(layout)) {
        std::vector<Part> parts;
        if (auto problem = parse_component(component, parts); !problem.empty()) return problem;
        if (component.empty()) return "a folder has no name";
    }
    return {};
}

} // namespace kasane
