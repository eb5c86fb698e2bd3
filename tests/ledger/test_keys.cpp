// What results are keyed by: everything that matters, and where one value ends and the next begins.
#include <kasane/ledger/keys.hpp>

#include <catch2/catch.hpp>
#include <optional>
#include <string>
#include <type_traits>
#include <variant>
#include <vector>

using namespace kasane;

namespace {

/// Calls `change` with each member of a record, whatever its kind, one at a time; returns how many there were.
template <class T>
void alter(T& v) {
    if constexpr (std::is_same_v<T, bool>)
        v = !v;
    else if constexpr (std::is_same_v<T, std::string>)
        v += "x";
    else if constexpr (std::is_enum_v<T>)
        v = static_cast<T>(static_cast<int>(v) + 1);
    else if constexpr (std::is_arithmetic_v<T>)
        v = static_cast<T>(v + 1);
    else if constexpr (requires { v.has_value(); })
        v = v ? std::nullopt : std::optional<typename T::value_type>(typename T::value_type{});
    else if constexpr (requires { v.valueless_by_exception(); }) // another of the kinds it may be
        v = v.index() == 0 ? T(std::in_place_index<1>) : T(std::in_place_index<0>);
    else if constexpr (requires { v.emplace_back(); })
        v.emplace_back();
    else
        std::apply([](auto& first, auto&...) { alter(const_cast<std::remove_cvref_t<decltype(first)>&>(first)); },
                   members(v));
}

template <class Tuple, class KeyOf>
int altered_members(const Tuple& tie, const KeyOf& key_of) {
    const std::string before = key_of();
    int unseen = 0, count = 0;
    std::apply(
        [&](const auto&... member) {
            const auto try_one = [&](const auto& m) {
                using T = std::remove_cvref_t<decltype(m)>;
                T& open = const_cast<T&>(m);
                const T kept = open;
                alter(open);
                unseen += key_of() == before;
                open = kept;
                ++count;
            };
            (try_one(member), ...);
        },
        tie);
    CHECK(unseen == 0);
    CHECK(key_of() == before);
    return count;
}

} // namespace

TEST_CASE("Keys are made of whole records: every member that changes changes the key") {
    Exposure e;
    CHECK(altered_members(metadata_of(e), [&] { return Key("x").add(metadata_of(e)).result(); }) == 42);
    MeasureOptions m;
    const auto of_measures = [&] { return Key("x").add(m).result(); };
    CHECK(altered_members(members(m), of_measures) == 6);
    CHECK(altered_members(members(m.detect), of_measures) == 9);
    CHECK(altered_members(members(m.own), of_measures) == 6);
    CHECK(altered_members(members(m.streaks), of_measures) == 4);
    IntegrateOptions i;
    const auto of_integration = [&] { return Key("x").add(i).result(); };
    i.rejection = SigmaRejection{};
    CHECK(altered_members(members(i), of_integration) == 8);
    CHECK(altered_members(members(i.judge), of_integration) == 2);
    CHECK(altered_members(members(i.judge.growth), of_integration) == 4);
    const auto altered = [&](auto method, int options) {
        i.rejection = method;
        CHECK(altered_members(members(std::get<decltype(method)>(*i.rejection)), of_integration) == options);
    };
    altered(SigmaRejection{}, 3);
    altered(PairRejection{}, 1);
    altered(WinsorizedRejection{}, 3);
    altered(NoiseRejection{}, 3);
    altered(LineRejection{}, 3);
    altered(PercentileRejection{}, 2);
    altered(MinMaxRejection{}, 2);
    altered(EsdRejection{}, 4);
    FramingOptions f;
    const auto of_framing = [&] { return Key("x").add(f).result(); };
    CHECK(altered_members(members(f), of_framing) == 6);
    DrizzleOptions d;
    CHECK(altered_members(members(d), [&] { return Key("x").add(d).result(); }) == 5);
    LevelOptions l;
    const auto of_levels = [&] { return Key("x").add(l).result(); };
    CHECK(altered_members(members(l), of_levels) == 3);
    CHECK(altered_members(members(l.scales), of_levels) == 4);
    CHECK(altered_members(members(m.sensor), of_measures) == 4);
    Limit limit = parse_limit("sky > 2 x night median and worth < 0.7 for Ha on 2031-03-12");
    const auto of_limit = [&] { return Key("x").add(limit).result(); };
    CHECK(altered_members(members(limit), of_limit) == 4);
    CHECK(altered_members(members(limit.conditions.front()), of_limit) == 4);
    CHECK(altered_members(members(limit.conditions.front().bound), of_limit) == 4);
    // Where one value ends and the next begins matters.
    CHECK(Key("x").add(std::string("ab"), std::string("c")).result() !=
          Key("x").add(std::string("a"), std::string("bc")).result());
    CHECK(Key("x").add(std::vector<int>{1}, std::vector<int>{}).result() !=
          Key("x").add(std::vector<int>{}, std::vector<int>{1}).result());
}
