#include "call.hpp"

#include <kasane/base/error.hpp>
#include <kasane/base/spelling.hpp>

#include <algorithm>
#include <fmt/format.h>
#include <map>

namespace kasane::cli {

namespace {

/// What people call the things that verbs do.
const std::map<std::string, std::string>& other_words() {
    static const std::map<std::string, std::string> words = {
        {"stack", "run"},     {"process", "run"},       {"calibrate", "run"}, {"register", "run"},
        {"align", "run"},     {"combine", "integrate"}, {"build", "run"},     {"list", "scan"},
        {"info", "show"},     {"view", "show"},         {"open", "show"},     {"preview", "show"},
        {"inspect", "show"},  {"validate", "check"},    {"verify", "check"},  {"pair", "check"},
        {"measure", "grade"}, {"rate", "grade"},        {"judge", "grade"},   {"blink", "review"},
        {"select", "review"}, {"recipe", "init"},       {"config", "init"},   {"new", "init"},
        {"copy", "export"},   {"link", "export"},       {"simulate", "demo"}, {"example", "demo"},
        {"state", "status"},  {"live", "watch"},        {"follow", "watch"},  {"monitor", "watch"},
    };
    return words;
}

bool takes_value(const CLI::App& app, const std::string& word) {
    for (const CLI::App* verb : app.get_subcommands([](const CLI::App*) { return true; }))
        if (const CLI::Option* o = verb->get_option_no_throw(word)) return o->get_expected_min() > 0;
    return false;
}

} // namespace

std::vector<std::string> ordered_words(const CLI::App& app, int argc, const char* const* argv) {
    std::vector<std::string> words(argv + 1, argv + argc), verbs;
    for (const CLI::App* verb : app.get_subcommands([](const CLI::App*) { return true; }))
        verbs.push_back(verb->get_name());
    std::size_t at = 0; // of the first word that is neither an option nor an option's value
    while (at < words.size() && words[at].size() > 1 && words[at].front() == '-') {
        const bool with_value = words[at].find('=') == std::string::npos && takes_value(app, words[at]);
        at += with_value ? 2 : 1;
    }
    if (at >= words.size()) return words;
    if (words[at] == "help") {
        if (at + 1 < words.size()) return {words[at + 1], "--help"};
        return {"--help"};
    }
    if (std::find(verbs.begin(), verbs.end(), words[at]) == verbs.end()) {
        std::vector<std::string> meant;
        const std::string near = nearest_word(words[at], verbs);
        for (const std::string& verb : verbs) // those that begin alike, too
            if (verb == near || verb.substr(0, 2) == words[at].substr(0, 2)) meant.push_back(fmt::format("'{}'", verb));
        std::vector<std::string> others;
        for (const auto& [word, verb] : other_words())
            others.push_back(word);
        if (const std::string other = nearest_word(words[at], others); !other.empty())
            meant.push_back(fmt::format("'{}' (to {})", other_words().at(other), other));
        throw UsageError(fmt::format("there is no verb '{}'", words[at]), {},
                         meant.empty() ? "See 'kasane help'"
                                       : fmt::format("Did you mean {}?", fmt::join(meant, " or ")));
    }
    std::rotate(words.begin(), words.begin() + static_cast<std::ptrdiff_t>(at),
                words.begin() + static_cast<std::ptrdiff_t>(at) + 1);
    return words;
}

} // namespace kasane::cli
