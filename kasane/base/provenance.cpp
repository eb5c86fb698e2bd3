#include <kasane/base/provenance.hpp>

#include <algorithm>

namespace kasane {

Provenance::Step& Provenance::Step::set(const std::string& setting, const std::string& value) {
    const auto it = std::find_if(settings.begin(), settings.end(), [&](const auto& s) { return s.first == setting; });
    if (it != settings.end())
        it->second = value;
    else
        settings.emplace_back(setting, value);
    return *this;
}

Provenance::Step& Provenance::step(const std::string& name) {
    const auto it = std::find_if(steps.begin(), steps.end(), [&](const Step& s) { return s.name == name; });
    if (it != steps.end()) return *it;
    steps.push_back({name, {}, {}, {}});
    return steps.back();
}

const Provenance::Step* Provenance::find(const std::string& name) const {
    const auto it = std::find_if(steps.begin(), steps.end(), [&](const Step& s) { return s.name == name; });
    return it == steps.end() ? nullptr : &*it;
}

void Provenance::merge(const Provenance& other) {
    for (const Step& from : other.steps) {
        Step& to = step(from.name);
        if (!from.text.empty()) to.text = from.text;
        for (const auto& [name, value] : from.settings)
            to.set(name, value);
        to.inputs.insert(to.inputs.end(), from.inputs.begin(), from.inputs.end());
    }
}

void Provenance::rename_inputs(const std::function<std::string(const std::string&)>& name_of) {
    for (Step& s : steps)
        for (Input& input : s.inputs)
            if (std::string now = name_of(input.identity); !now.empty()) input.name = std::move(now);
}

std::vector<std::string> Provenance::history() const {
    std::vector<std::string> lines;
    for (const Step& s : steps)
        if (!s.text.empty()) lines.push_back(s.name + ": " + s.text);
    for (const Input& input : inputs_of(Input::Kind::exposure))
        lines.push_back("from " + input.name + (input.note.empty() ? "" : " " + input.note));
    return lines;
}

std::vector<Provenance::Input> Provenance::inputs_of(Input::Kind kind) const {
    std::vector<Input> all;
    for (const Step& s : steps)
        for (const Input& input : s.inputs)
            if (input.kind == kind && std::none_of(all.begin(), all.end(), [&](const Input& i) {
                    return i.identity == input.identity && i.name == input.name;
                }))
                all.push_back(input);
    return all;
}

} // namespace kasane
