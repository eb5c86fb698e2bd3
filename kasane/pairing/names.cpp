// Names of masters and stacks: those given before stay, others are told apart by what differs.
#include <kasane/pairing/pairer.hpp>

#include <kasane/base/hash.hpp>

namespace kasane {

std::string Pairer::mark_of(const Exposure& e, Field field) {
    switch (field) {
    case Field::gain:
        return e.gain ? fmt::format("{}{:g}", e.gain_is_iso ? "ISO" : "gain", *e.gain) : "";
    case Field::offset:
        return e.offset ? fmt::format("offset{:g}", *e.offset) : "";
    case Field::binning:
        return fmt::format("bin{}", e.binning_x);
    case Field::rotator:
        return e.rotator ? fmt::format("{:.0f}deg", *e.rotator) : "";
    case Field::focal_length:
        return e.focal_length_mm ? fmt::format("{:.0f}mm", *e.focal_length_mm) : "";
    default:
        return value_text(e, field);
    }
}

std::vector<std::string> Pairer::marks_of(const Exposure& e, std::initializer_list<Field> fields) {
    std::vector<std::string> out;
    for (const Field f : fields)
        out.push_back(mark_of(e, f));
    out.insert(out.begin() + 1, fmt::format("{}x{}", e.width, e.height));
    out.push_back(e.planes == 3 ? "colour" : e.cfa.empty() ? "mono" : e.cfa);
    return out;
}

void Pairer::give_names(std::vector<Naming>& all) {
    std::map<std::string, const Naming*> taken;
    std::map<std::string, std::vector<Naming*>> wanting;
    for (Naming& n : all) {
        const auto before = options_.names.find(n.identity);
        if (before != options_.names.end() && taken.try_emplace(before->second, &n).second) *n.name = before->second;
        wanting[n.wanted].push_back(&n);
    }
    for (auto& [wanted, same] : wanting)
        for (Naming* n : same) {
            if (!n->name->empty()) continue;
            std::string name = wanted;
            bool alone = same.size() == 1;
            for (std::size_t k = 0; k < n->marks.size() && !alone; ++k) {
                const auto differs = [&](const Naming* o) { return o->marks[k] != n->marks[k]; };
                if (std::none_of(same.begin(), same.end(), differs) || n->marks[k].empty()) continue;
                name += "-" + n->marks[k];
                alone = std::all_of(same.begin(), same.end(), [&](const Naming* o) {
                    return o == n ||
                           !std::equal(n->marks.begin(), n->marks.begin() + static_cast<std::ptrdiff_t>(k) + 1,
                                       o->marks.begin());
                });
            }
            name = file_safe(name);
            std::string candidate = name;
            for (int i = 2; !taken.try_emplace(candidate, n).second; ++i)
                candidate = fmt::format("{}-{}", name, i);
            *n->name = candidate;
        }
    for (const Naming& n : all)
        if (n.note && n.note->empty() && *n.name != n.wanted)
            *n.note = n.name->starts_with(n.wanted + "-")
                          ? fmt::format("another is called {}; {} tells this one apart", n.wanted,
                                        n.name->substr(n.wanted.size() + 1))
                          : fmt::format("it would be called {}, and was called otherwise before", n.wanted);
}

void Pairer::name_all() {
    std::vector<Naming> namings;
    for (MasterPlan& m : result_.masters) {
        const Exposure& e = first(m);
        std::string name(m.role == Role::dark_flat ? "dark-flat" : role_name(m.role));
        if (m.role == Role::flat) {
            if (!e.filter.empty()) name += "-" + e.filter;
            if (!e.night.empty()) name += "-" + e.night;
        } else if (m.role != Role::bias && e.seconds) {
            name += fmt::format("-{:g}s", *e.seconds);
        }
        if (m.temperature && m.role != Role::flat) name += fmt::format("_{:g}C", std::round(*m.temperature) + 0.0);
        name = file_safe(name);
        m.identity =
            digest(fmt::format("master|{}|{}|{}|{}|{}", name, sensor_key(e), mark_of(e, Field::gain),
                               mark_of(e, Field::offset), m.role == Role::flat ? mark_of(e, Field::rotator) : ""));
        namings.push_back({&m.name, name, m.identity,
                           marks_of(e, {Field::camera, Field::binning, Field::gain, Field::offset, Field::rotator}),
                           nullptr});
    }
    give_names(namings);
    std::stable_sort(result_.stacks.begin(), result_.stacks.end(), [](const StackPlan& a, const StackPlan& b) {
        return std::tie(a.target, a.filter, a.sensor) < std::tie(b.target, b.filter, b.sensor);
    });
    namings.clear();
    for (StackPlan& s : result_.stacks) {
        const Exposure& e = all_[s.lights.front().exposure];
        std::string name = s.target.empty() ? "light" : s.target, apart;
        if (!s.filter.empty()) name += "-" + s.filter;
        for (const Field f : options_.separate)
            if (const std::string v = value_text(e, f); !v.empty()) apart += "-" + v + (f == Field::seconds ? "s" : "");
        name += apart;
        std::string telescope;
        for (const LightPlan& l : s.lights)
            if (telescope.empty()) telescope = squeezed(all_[l.exposure].telescope);
        const std::string safe = file_safe(name);
        s.identity = digest(fmt::format("stack|{}|{}|{}|{}|{}", squeezed(s.target), plain_letters(s.filter), s.sensor,
                                        telescope, apart));
        std::string blanks = name;
        std::replace(blanks.begin(), blanks.end(), ' ', '-');
        if (safe != blanks) s.name_note = fmt::format("'{}' cannot be a file name as it is", name);
        namings.push_back(
            {&s.name, safe.empty() ? "light" : safe, s.identity,
             marks_of(e, {Field::camera, Field::binning, Field::telescope, Field::focal_length, Field::gain}),
             &s.name_note});
    }
    give_names(namings);
}

} // namespace kasane
