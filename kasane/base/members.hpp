// Structures as the list of their members, so that a digest of one is made of all of them.
//
// A structure takes part by a function `members` beside it, or where it is used, that names all members in one
// structured binding and ties them:
//
//   inline auto members(const Region& r) { const auto& [x, y, w, h] = r; return std::tie(x, y, w, h); }
//
// A member that is added later does not compile until it is named there.
#pragma once

#include <kasane/base/hash.hpp>

#include <cstdint>
#include <map>
#include <optional>
#include <string>
#include <tuple>
#include <type_traits>
#include <utility>
#include <variant>
#include <vector>

namespace kasane {

/// Adds a value of any of these kinds to a digest: numbers (exactly), texts, enumerations, optionals, pairs,
/// variants, vectors, maps, tuples, and structures with `members`.
template <class T>
void add_value(Digester& d, const T& value);

namespace detail {

template <class T>
struct Adder {
    static void add(Digester& d, const T& v) {
        if constexpr (std::is_enum_v<T>)
            d.add("e").add(static_cast<double>(static_cast<std::int64_t>(v)));
        else if constexpr (std::is_integral_v<T>)
            d.add("i").add(std::to_string(v));
        else if constexpr (std::is_floating_point_v<T>)
            d.add("n").add(static_cast<double>(v));
        else
            std::apply([&](const auto&... each) { (add_value(d, each), ...); }, members(v));
    }
};
template <>
struct Adder<std::string> {
    static void add(Digester& d, const std::string& v) { d.add("t").add(v); }
};
template <class T>
struct Adder<std::optional<T>> {
    static void add(Digester& d, const std::optional<T>& v) {
        d.add(v ? "some" : "none");
        if (v) add_value(d, *v);
    }
};
template <class A, class B>
struct Adder<std::pair<A, B>> {
    static void add(Digester& d, const std::pair<A, B>& v) {
        add_value(d, v.first);
        add_value(d, v.second);
    }
};
template <class... T>
struct Adder<std::tuple<T...>> {
    static void add(Digester& d, const std::tuple<T...>& v) {
        std::apply([&](const auto&... each) { (add_value(d, each), ...); }, v);
    }
};
template <class... T>
struct Adder<std::variant<T...>> {
    static void add(Digester& d, const std::variant<T...>& v) {
        d.add("one of").add(static_cast<double>(v.index()));
        std::visit([&](const auto& each) { add_value(d, each); }, v);
    }
};
template <class List>
void add_list(Digester& d, const List& list) {
    d.add("list").add(static_cast<double>(list.size()));
    for (const auto& each : list)
        add_value(d, each);
}
template <class T>
struct Adder<std::vector<T>> {
    static void add(Digester& d, const std::vector<T>& v) { add_list(d, v); }
};
template <class K, class V>
struct Adder<std::map<K, V>> {
    static void add(Digester& d, const std::map<K, V>& v) { add_list(d, v); }
};

} // namespace detail

template <class T>
void add_value(Digester& d, const T& value) {
    detail::Adder<std::remove_cvref_t<T>>::add(d, value);
}

} // namespace kasane
