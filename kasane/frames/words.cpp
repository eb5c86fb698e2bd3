#include <kasane/frames/words.hpp>

#include <algorithm>
#include <array>
#include <cctype>
#include <map>
#include <set>
#include <string_view>
#include <utility>

namespace kasane {

namespace {

/// The words of a name, lower case: runs of letters; digits, signs and a capital after a small letter separate.
std::vector<std::string> words_of(const std::string& text) {
    std::vector<std::string> out(1);
    bool small = false;
    for (const unsigned char c : text) {
        const bool letter = std::isalpha(c) || c >= 0x80;
        if (!letter || (small && std::isupper(c))) {
            if (!out.back().empty()) out.emplace_back();
        }
        if (letter) out.back() += static_cast<char>(c);
        small = std::islower(c);
    }
    if (out.back().empty()) out.pop_back();
    for (std::string& w : out)
        w = plain_letters(w);
    return out;
}

const std::map<std::string, Role>& role_words() {
    static const std::map<std::string, Role> words = [] {
        std::map<std::string, Role> m;
        const auto add = [&](Role role, std::initializer_list<const char*> list) {
            for (const char* w : list)
                m[w] = role;
        };
        add(Role::light, {"light",   "lights",         "lightframe",  "lightframes", "licht",
                          "lichter", "hellbild",       "hellbilder",  "lumiere",     "lumieres",
                          "brute",   "brutes",         "luce",        "luci",        "luz",
                          "luces",   "luzes",          "lichtopname", "лайт",        "лайты",
                          "ライト",  "ライトフレーム", "亮场",        "science",     "sci"});
        add(Role::dark,
            {"dark",        "darks",  "darkframe",      "darkframes", "dunkel", "dunkelbild", "dunkelbilder",
             "dunkelstrom", "noir",   "noirs",          "buio",       "bui",    "oscuro",     "oscuros",
             "oscura",      "escuro", "escuros",        "donker",     "дарк",   "дарки",      "темновой",
             "темновые",    "ダーク", "ダークフレーム", "暗场"});
        add(Role::flat, {"flat",    "flats",    "flatfield",        "flatfields",  "flatframe", "flatframes",
                         "skyflat", "skyflats", "flachbild",        "flachbilder", "plu",       "plano",
                         "planos",  "piatto",   "piatti",           "флэт",        "флэты",     "плоское",
                         "плоские", "フラット", "フラットフレーム", "平场"});
        add(Role::bias,
            {"bias", "biases", "biasframe", "biasframes", "zero", "zeros", "zeroframe", "nullbild", "nullbilder",
             "offset", "offsets", "биас", "биасы", "смещение", "バイアス", "バイアスフレーム", "偏置场", "偏置"});
        add(Role::dark_flat, {"darkflat", "darkflats", "flatdark", "flatdarks", "dunkelflat", "dunkelflats",
                              "flatdunkel", "ダークフラット", "フラットダーク", "平场暗场", "暗平场"});
        return m;
    }();
    return words;
}

const std::set<std::string>& neutral_words() {
    static const std::set<std::string> words = {
        "s",     "sec",   "secs",    "c",         "deg",   "degc",   "k",       "g",           "gain",   "iso",
        "bin",   "x",     "min",     "ms",        "t",     "temp",   "frame",   "frames",      "image",  "images",
        "img",   "night", "nights",  "date",      "date",  "set",    "new",     "old",         "raw",    "fits",
        "fit",   "fts",   "tif",     "tiff",      "png",   "jpg",    "dng",     "library",     "lib",    "field",
        "sky",   "panel", "session", "nacht",     "nuit",  "notte",  "noche",   "noite",       "north",  "south",
        "east",  "west",  "r",       "l",         "b",     "ha",     "h",       "alpha",       "beta",   "sii",
        "oiii",  "o",     "lum",     "luminance", "red",   "green",  "blue",    "hb",          "hbeta",  "halpha",
        "clear", "rgb",   "lrgb",    "mono",      "osc",   "filter", "of",      "the",         "and",    "e",
        "m",     "n",     "d",       "p",         "minus", "no",     "nr",      "number",      "master", "masters",
        "super", "stack", "stacked", "combined",  "mean",  "median", "average", "calibration", "cal",    "camera",
        "f",     "mm",    "a",       "z",         "mgain", "offset"};
    return words;
}

bool is_master_word(const std::string& w) {
    return w == "master" || w == "masters" || w == "super" || w == "maitre" || w == "mestre";
}

bool is_stack_word(const std::string& w) {
    return w == "stack" || w == "stacked" || w == "combined" || w == "mean" || w == "median" || w == "average";
}

const std::map<std::string, std::string>& filter_synonyms() {
    static const std::map<std::string, std::string> synonyms = {
        {"l", "L"},         {"lum", "L"},   {"lumi", "L"},    {"luminance", "L"},
        {"luminanz", "L"},  {"clear", "L"}, {"c", "L"},       {"uvircut", "L"},
        {"irgc", "L"},      {"r", "R"},     {"red", "R"},     {"rot", "R"},
        {"rouge", "R"},     {"g", "G"},     {"green", "G"},   {"grun", "G"},
        {"vert", "G"},      {"b", "B"},     {"blue", "B"},    {"blau", "B"},
        {"bleu", "B"},      {"ha", "Ha"},   {"halpha", "Ha"}, {"hydrogenalpha", "Ha"},
        {"hα", "Ha"},       {"h", "Ha"},    {"o3", "O3"},     {"oiii", "O3"},
        {"oxygen3", "O3"},  {"s2", "S2"},   {"sii", "S2"},    {"sulfur2", "S2"},
        {"sulphur2", "S2"}, {"hb", "Hb"},   {"hbeta", "Hb"},  {"hβ", "Hb"},
        {"n2", "N2"},       {"nii", "N2"},  {"none", ""},     {"nofilter", ""},
        {"nil", ""},        {"empty", ""},  {"dark", ""},     {"opaque", ""},
        {"na", ""},
    };
    return synonyms;
}

/// Filter names that stand for themselves in a file name; single letters only in capitals.
bool is_filter_token(const std::string& token) {
    if (token.size() == 1) return token == "L" || token == "R" || token == "G" || token == "B";
    const std::string s = squeezed(token);
    if (s == "dark" || s == "clear" || s == "none" || s == "na" || s == "nil" || s == "empty" || s == "rot")
        return false;
    return s.size() > 1 && filter_synonyms().count(s) > 0;
}

/// A number with what precedes and follows it in a token: "gain100" -> "gain", 100, "".
struct Token {
    std::string before, number, after;
};
Token split_number(const std::string& token) {
    Token t;
    std::size_t i = 0;
    while (i < token.size() && !std::isdigit(static_cast<unsigned char>(token[i])))
        t.before += token[i++];
    while (i < token.size() &&
           (std::isdigit(static_cast<unsigned char>(token[i])) ||
            (token[i] == '.' && i + 1 < token.size() && std::isdigit(static_cast<unsigned char>(token[i + 1])))))
        t.number += token[i++];
    t.after = token.substr(i);
    t.before = plain_letters(t.before);
    t.after = plain_letters(t.after);
    return t;
}

} // namespace

std::string plain_letters(const std::string& text) {
    // Latin letters with accents, as UTF-8: 0xc3 and a second byte.
    static constexpr std::string_view kPlain = "aaaaaaaceeeeiiiidnooooo ouuuuypsaaaaaaaceeeeiiiidnooooo ouuuuypy";
    std::string out;
    for (std::size_t i = 0; i < text.size(); ++i) {
        const auto c = static_cast<unsigned char>(text[i]);
        if (c == 0xc3 && i + 1 < text.size()) {
            const auto next = static_cast<unsigned char>(text[i + 1]);
            if (next >= 0x80 && next <= 0xbf) {
                out += kPlain[next - 0x80u];
                ++i;
                continue;
            }
        }
        if ((c == 0xd0 || c == 0xd1) && i + 1 < text.size()) { // Cyrillic capitals
            const auto next = static_cast<unsigned char>(text[i + 1]);
            if (c == 0xd0 && next >= 0x90 && next <= 0x9f) {
                out += static_cast<char>(0xd0);
                out += static_cast<char>(next + 0x20);
                ++i;
                continue;
            }
            if (c == 0xd0 && next >= 0xa0 && next <= 0xaf) {
                out += static_cast<char>(0xd1);
                out += static_cast<char>(next - 0x20);
                ++i;
                continue;
            }
        }
        out += static_cast<char>(c < 0x80 ? std::tolower(c) : c);
    }
    return out;
}

std::string squeezed(const std::string& text) {
    std::string out;
    for (const unsigned char c : plain_letters(text))
        if (std::isalnum(c) || c >= 0x80) out += static_cast<char>(c);
    return out;
}

NamedRole role_of_text(const std::string& text) {
    const std::string t = squeezed(text);
    const auto has = [&](std::string_view w) { return t.find(w) != std::string::npos; };
    NamedRole r;
    r.master = has("master") || has("super") || has("stacked");
    if (has("darkflat") || has("flatdark"))
        r.role = Role::dark_flat;
    else if (has("bias") || has("zero") || has("offset"))
        r.role = Role::bias;
    else if (has("flat"))
        r.role = Role::flat;
    else if (has("dark"))
        r.role = Role::dark;
    else if (has("light") || has("science") || has("object") || t == "sci" || t == "target")
        r.role = Role::light;
    if (r.role == Role::unknown) {
        const NamedRole n = role_of_name(text);
        if (n.role != Role::unknown) return n;
    }
    return r;
}

NamedRole role_of_name(const std::string& component) {
    NamedRole r;
    bool dark = false, flat = false, other = false, both = false;
    bool stacked = false;
    Role found = Role::unknown;
    const auto list = words_of(component);
    for (const std::string& whole : list) {
        std::string w = whole;
        if (is_master_word(w)) {
            r.master = true;
            continue;
        }
        stacked = stacked || is_stack_word(w);
        if (!role_words().count(w))
            for (const std::string_view prefix : {"master", "super"})
                if (w.size() > prefix.size() && w.starts_with(prefix) && role_words().count(w.substr(prefix.size()))) {
                    w = w.substr(prefix.size());
                    r.master = true;
                }
        const auto it = role_words().find(w);
        if (it == role_words().end()) {
            other = other || (!neutral_words().count(w) && w.size() > 1);
            continue;
        }
        dark = dark || it->second == Role::dark;
        flat = flat || it->second == Role::flat;
        both = both || it->second == Role::dark_flat;
        // "offset" beside another role is a setting of the camera: "dark_gain100_offset50".
        const bool setting = whole == "offset" && list.size() > 1;
        if (!setting && (found == Role::unknown || found == Role::light)) found = it->second;
        if (setting && found == Role::unknown && list.size() <= 2) found = Role::bias;
    }
    r.role = both || (dark && flat) ? Role::dark_flat : found;
    r.master = r.master || (stacked && r.role != Role::unknown && r.role != Role::light);
    r.sure = !other;
    return r;
}

std::string fold_filter(const std::string& name) {
    const auto it = filter_synonyms().find(squeezed(name));
    if (it != filter_synonyms().end()) return it->second;
    const auto first = name.find_first_not_of(' '), last = name.find_last_not_of(' ');
    return first == std::string::npos ? "" : name.substr(first, last - first + 1);
}

bool is_filter_name(const std::string& name) {
    return filter_synonyms().count(squeezed(name)) > 0;
}

NamedFilter filter_of_name(const std::string& component, const std::string& initials) {
    // Words that name other things too: colours of nebulae, the second night.
    static const std::set<std::string> ambiguous = {"red",  "rot",  "rouge", "green", "grun", "vert", "blue",
                                                    "blau", "bleu", "clear", "n2",    "c",    "h"};
    NamedFilter found;
    bool other_words = false, first = true;
    std::string token;
    const auto take = [&] {
        if (token.empty()) return;
        const bool at_start = std::exchange(first, false);
        const std::string word = squeezed(token);
        const bool letter = token.size() == 1;
        if (is_filter_token(token)) {
            if (letter && at_start && initials.find(token.front()) != std::string::npos) {
                token.clear();
                return;
            }
            const bool strong = !letter && !ambiguous.count(word);
            const auto strength = strong ? FilterWord::word : FilterWord::letter;
            // The first longer word; else the last lone letter, or a colour's word.
            const bool over_letter = strength == found.strength && !strong && found.name.size() == 1;
            if (strength > found.strength || over_letter) found = {strength, token};
        } else {
            for (const std::string& w : words_of(token))
                other_words = other_words || (w.size() > 1 && !neutral_words().count(w) && !role_words().count(w) &&
                                              !is_master_word(w));
        }
        token.clear();
    };
    for (const char c : component)
        if (c == '_' || c == '-' || c == ' ' || c == ',' || c == '(' || c == ')' || c == '[' || c == ']' || c == '.')
            take();
        else
            token += c;
    take();
    const bool colour = found.strength == FilterWord::letter && found.name.size() > 2; // "red", not "N2"
    if (colour && !other_words) found.strength = FilterWord::word;
    return found;
}

std::string role_initials(Role role, const std::string& path) {
    std::string out(1, static_cast<char>(std::toupper(role_name(role).front())));
    if (role == Role::unknown) out.clear();
    for (const std::string& w : words_of(path)) {
        const auto it = role_words().find(w);
        if (it != role_words().end() && it->second == role)
            out += static_cast<char>(std::toupper(static_cast<unsigned char>(w.front())));
    }
    return out;
}

std::vector<NamedValue> values_of_name(const std::string& component) {
    std::vector<NamedValue> out;
    std::string token;
    char before = '_';
    const auto take = [&](char separator) {
        if (token.empty()) {
            before = separator;
            return;
        }
        const Token t = split_number(token);
        const std::string sign = before == '-' ? "-" : "";
        if (is_filter_token(token)) {
            out.push_back({Field::filter, token});
        } else if (!t.number.empty()) {
            const bool alone = t.before.empty();
            if (alone && (t.after == "s" || t.after == "sec" || t.after == "secs"))
                out.push_back({Field::seconds, t.number});
            else if (alone && (t.after == "c" || t.after == "degc"))
                out.push_back({Field::temperature, sign + t.number});
            else if ((t.before == "m" || t.before == "minus") && (t.after == "c" || t.after == "degc"))
                out.push_back({Field::temperature, "-" + t.number});
            else if (t.before == "gain" && t.after.empty())
                out.push_back({Field::gain, t.number});
            else if (t.before == "iso" && t.after.empty())
                out.push_back({Field::gain, "ISO" + t.number});
            else if ((t.before == "bin" || t.before == "binning") && (t.after.empty() || t.after == "x" + t.number))
                out.push_back({Field::binning, t.number});
        }
        token.clear();
        before = separator;
    };
    for (const char c : component)
        if (c == '_' || c == '-' || c == ' ' || c == ',' || c == '(' || c == ')' || c == '[' || c == ']')
            take(c);
        else
            token += c;
    take('_');
    return out;
}

std::string file_safe(const std::string& text) {
    std::string out;
    for (const unsigned char c : text) {
        const bool plain = std::isalnum(c) || c == '.' || c == '_' || c == '-';
        if (c == '+')
            out += "plus";
        else if (plain)
            out += static_cast<char>(c);
        else if (!out.empty() && out.back() != '-')
            out += '-';
    }
    while (!out.empty() && (out.back() == '-' || out.back() == '.'))
        out.pop_back();
    while (!out.empty() && (out.front() == '.' || out.front() == '-'))
        out.erase(0, 1);
    constexpr std::size_t kLongest = 100;
    return out.substr(0, kLongest);
}

} // namespace kasane
