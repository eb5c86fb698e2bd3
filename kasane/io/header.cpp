#include <kasane/io/header.hpp>

#include <cctype>

#include <charconv>
#include <cmath>
#include <fmt/format.h>

namespace kasane {

void Header::add_history(std::string_view text) {
    constexpr std::size_t kRoom = 70; // FITS standard 4.0, 4.4.2.4: columns 9 to 80, of which cfitsio fills 70
    while (text.size() > kRoom) {
        const std::size_t space = text.rfind(' ', kRoom);
        const bool between_words = space != std::string_view::npos && space > 0;
        const std::size_t end = between_words ? space : kRoom;
        cards_.push_back({"HISTORY", std::string(text.substr(0, end)), {}, true});
        text.remove_prefix(between_words ? end + 1 : end);
    }
    cards_.push_back({"HISTORY", std::string(text), {}, true});
}

void Header::replace(Card card) {
    for (Card& c : cards_)
        if (c.key == card.key) {
            c = std::move(card);
            return;
        }
    cards_.push_back(std::move(card));
}

void Header::set(std::string key, std::string value, std::string comment) {
    replace({std::move(key), std::move(value), std::move(comment), true});
}

void Header::set(std::string key, double value, std::string comment) {
    replace({std::move(key), fmt::format("{:.10G}", value), std::move(comment), false});
}

void Header::set(std::string key, long long value, std::string comment) {
    replace({std::move(key), fmt::format("{}", value), std::move(comment), false});
}

const Card* Header::find(std::string_view key) const {
    for (const Card& c : cards_)
        if (c.key == key && !c.value.empty()) return &c;
    return nullptr;
}

std::optional<std::string> Header::text(std::string_view key) const {
    const Card* c = find(key);
    if (!c) return std::nullopt;
    const auto first = c->value.find_first_not_of(' '), last = c->value.find_last_not_of(' ');
    if (first == std::string::npos) return std::nullopt;
    return c->value.substr(first, last - first + 1);
}

std::optional<double> Header::number(std::string_view key) const {
    const auto t = text(key);
    if (!t) return std::nullopt;
    double value = 0;
    const char* first = t->data() + (t->front() == '+' ? 1 : 0);
    const char* last = t->data() + t->size();
    const auto [end, error] = std::from_chars(first, last, value);
    if (error != std::errc{} || end != last || !std::isfinite(value)) return std::nullopt;
    return value;
}

std::optional<std::string> Header::text(std::initializer_list<std::string_view> keys) const {
    for (const auto key : keys)
        if (auto t = text(key)) return t;
    return std::nullopt;
}

std::optional<double> Header::number(std::initializer_list<std::string_view> keys) const {
    for (const auto key : keys)
        if (auto n = number(key)) return n;
    return std::nullopt;
}

bool is_bottom_up(std::string_view row_order) {
    std::string letters;
    for (const char c : row_order)
        if (std::isalpha(static_cast<unsigned char>(c)))
            letters += static_cast<char>(std::toupper(static_cast<unsigned char>(c)));
    return letters == "BOTTOMUP";
}

} // namespace kasane
