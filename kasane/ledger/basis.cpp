// What a result was made from, and what has changed since.
#include <kasane/ledger/basis.hpp>

#include <kasane/base/hash.hpp>
#include <kasane/ledger/keys.hpp>
#include <kasane/ledger/records.hpp>

#include <algorithm>
#include <fmt/format.h>
#include <map>
#include <nlohmann/json.hpp>

namespace kasane {

Basis::Basis(const std::string& kind, Provenance planned) : planned_(std::move(planned)) {
    set("kind", kind);
    set("numerics", kNumerics);
    for (const Provenance::Step& step : planned_.steps) {
        for (const auto& [name, value] : step.settings)
            set(name, value);
        for (const Provenance::Input& input : step.inputs)
            if (input.kind == Provenance::Input::Kind::master)
                set("master " + input.name, input.identity);
            else
                inputs_.emplace_back(input.identity, input.name);
    }
}

void Basis::set(const std::string& name, const std::string& value) {
    for (auto& [n, v] : settings_)
        if (n == name) {
            v = value;
            return;
        }
    settings_.emplace_back(name, value);
}

std::string Basis::key() const {
    Digester d;
    for (const auto& [name, value] : settings_)
        d.add(name).add(value);
    for (const auto& [identity, path] : inputs_) // where a file lies does not matter
        d.add(identity);
    return d.result();
}

std::string Basis::text() const {
    return json_text({{"settings", settings_}, {"inputs", inputs_}});
}

std::vector<std::string> Basis::changes_since(const std::string& former) const {
    using Pairs = std::vector<std::pair<std::string, std::string>>;
    Pairs old_settings, old_inputs;
    try {
        const auto json = nlohmann::json::parse(former);
        old_settings = json.at("settings").get<Pairs>();
        old_inputs = json.at("inputs").get<Pairs>();
        for (auto& [name, value] : old_settings) // as masters' offsets were called once
            if (name.starts_with("offset ")) name = "master " + name.substr(7);
    } catch (const nlohmann::json::exception&) {
        return {"what it was made from is not known any more"};
    }
    const std::map<std::string, std::string> before(old_inputs.begin(), old_inputs.end()),
        now(inputs_.begin(), inputs_.end());
    const std::map<std::string, std::string> set_before(old_settings.begin(), old_settings.end()),
        set_now(settings_.begin(), settings_.end());
    std::vector<std::string> added, gone, changed, out;
    for (const auto& [identity, path] : now)
        if (!before.count(identity)) added.push_back(path);
    for (const auto& [identity, path] : before)
        if (!now.count(identity)) gone.push_back(path);
    for (const std::string& path : added) // the same name, another content
        if (std::find(gone.begin(), gone.end(), path) != gone.end()) changed.push_back(path);
    for (const std::string& path : changed) {
        std::erase(added, path);
        std::erase(gone, path);
    }
    const auto tell = [&](const std::vector<std::string>& list, const char* what) {
        if (list.empty()) return;
        out.push_back(list.size() == 1 ? fmt::format("{} is {}", list.front(), what)
                                       : fmt::format("{} files are {}: {}, ...", list.size(), what, list.front()));
    };
    tell(added, "new");
    tell(gone, "gone");
    tell(changed, "changed");
    for (const auto& [name, value] : set_now) {
        const auto it = set_before.find(name);
        if (it != set_before.end() && it->second == value) continue;
        if (name == "pairing" || name == "verdicts" || name == "exposures" || name == "options")
            continue; // told below, if nothing else explains it
        if (name == "numerics") {
            out.push_back("this version of Kasane computes in another way");
        } else if (name.starts_with("master ")) {
            out.push_back(fmt::format("{} is {}", name.substr(7), it == set_before.end() ? "now used" : "another"));
        } else if (name == "reference") {
            out.push_back("the registration reference is another");
        } else if (name.starts_with("turn ")) {
            out.push_back("the turn of its frames is another");
        } else {
            out.push_back(
                fmt::format("{} is {}, was {}", name, value, it == set_before.end() ? "not set" : it->second));
        }
    }
    for (const auto& [name, value] : set_before)
        if (!set_now.count(name))
            out.push_back(name.starts_with("master ") ? fmt::format("{} is no longer used", name.substr(7))
                                                      : fmt::format("{} is no longer set", name));
    const auto other = [&](const char* name) {
        return set_before.count(name) && set_now.count(name) && set_before.at(name) != set_now.at(name);
    };
    if (out.empty() && other("verdicts") && !other("pairing"))
        out.push_back("other exposures may be kept: limits or verdicts by hand have changed");
    if (out.empty() && other("exposures"))
        out.push_back("what headers, names or the recipe say of its exposures has changed");
    if (out.empty() && other("canvas") && !other("pairing"))
        out.push_back("[canvas] asks for another picture, or follows lights that have changed");
    if (out.empty() && other("options") && !other("pairing"))
        out.push_back("[normalization] or [integration] asks for something else");
    if (out.empty() && set_before != set_now) out.push_back("the lights are paired or read in another way");
    return out;
}

} // namespace kasane
