#include <kasane/report/review_request.hpp>

#include <kasane/base/error.hpp>

#include <nlohmann/json.hpp>

namespace kasane {

namespace {

FramePlace place_of(const nlohmann::json& j) {
    for (const char* name : {"stack", "frame"})
        if (!j.at(name).is_number_unsigned())
            throw UsageError("what was sent names no exposure of this project", {}, {});
    return {j.at("stack").get<std::size_t>(), j.at("frame").get<std::size_t>()};
}

std::optional<Decision> decision_of(const nlohmann::json& j) {
    const auto word = j.at("verdict").get<std::string>();
    if (word == "auto") return std::nullopt;
    if (word != "keep" && word != "drop")
        throw UsageError("what was sent is no verdict: it is to be keep, drop or auto", {}, {});
    return Decision{word == "keep", j.value("note", "")};
}

std::optional<Point> mark_of(const nlohmann::json& j) {
    if (j.is_null()) return std::nullopt;
    return Point{j.at(0).get<double>(), j.at(1).get<double>()};
}

} // namespace

ReviewRequest parse_review_request(const std::string& text) {
    try {
        const auto body = nlohmann::json::parse(text);
        ReviewRequest out;
        if (const auto of = body.find("generation"); of != body.end()) {
            if (!of->is_number_integer()) throw UsageError("the page says no state that it shows", {}, "Load it again");
            out.generation = of->get<std::int64_t>();
        }
        for (const auto& d : body.at("decisions"))
            out.verdicts.push_back({place_of(d), decision_of(d)});
        if (!body.at("limits").is_null()) out.limits = body.at("limits").get<std::vector<std::string>>();
        if (const auto lead = body.find("reference"); lead != body.end() && !lead->is_null())
            out.reference = place_of(*lead);
        for (const auto& mark : body.value("comet", nlohmann::json::array()))
            out.comet.push_back({place_of(mark), mark_of(mark.at("at"))});
        return out;
    } catch (const nlohmann::json::exception&) {
        throw UsageError("the page sent what makes no sense", {}, "Load it again");
    }
}

} // namespace kasane
