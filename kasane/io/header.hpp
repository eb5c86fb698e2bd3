// The keywords of a file's header, as they stand, in order.
#pragma once

#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace kasane {

/// One keyword. Strings are unquoted; numbers keep the text of the file.
struct Card {
    std::string key;
    std::string value;
    std::string comment;
    bool is_text = false; ///< a quoted string in the file
};

/// An ordered list of cards with look-up. Keys are upper case.
class Header {
public:
    const std::vector<Card>& cards() const { return cards_; }
    void add(Card card) { cards_.push_back(std::move(card)); }
    void set(std::string key, std::string value, std::string comment = {});
    void set(std::string key, double value, std::string comment = {});
    void set(std::string key, long long value, std::string comment = {});
    void set(std::string key, const char* value, std::string comment = {}) {
        set(std::move(key), std::string(value), std::move(comment));
    }
    /// As many cards as it takes (each has room for 70 characters), broken between words.
    void add_history(std::string_view text);

    /// The first card with this key that has a value.
    const Card* find(std::string_view key) const;
    std::optional<std::string> text(std::string_view key) const;
    /// A finite number, or nothing (absent, not a number).
    std::optional<double> number(std::string_view key) const;
    /// The first of several spellings that is there.
    std::optional<std::string> text(std::initializer_list<std::string_view> keys) const;
    std::optional<double> number(std::initializer_list<std::string_view> keys) const;

private:
    void replace(Card card);
    std::vector<Card> cards_;
};

/// Whether a value of ROWORDER says that the first stored row is the lowest.
bool is_bottom_up(std::string_view row_order);

} // namespace kasane
