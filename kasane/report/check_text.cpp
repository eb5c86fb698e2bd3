// What checking and asking for the state of a project print.
#include <kasane/report/json.hpp>
#include <kasane/report/tables.hpp>

#include <kasane/base/output_file.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <map>
#include <nlohmann/json.hpp>

namespace kasane {

namespace {

std::string master_text(const Pairing& p, std::size_t i) {
    const MasterPlan& m = p.masters[i];
    return m.existing ? fmt::format("{} (a master that is there)", m.name)
                      : fmt::format("{} ({} frame{})", m.name, m.members.size(), m.members.size() == 1 ? "" : "s");
}

/// One branch of the tree: a heading and what hangs below it.
struct Node {
    std::string text;
    std::vector<Node> below;
};

void draw(const Node& node, const std::string& indent, std::size_t columns, std::string& out) {
    for (std::size_t i = 0; i < node.below.size(); ++i) {
        const bool last = i + 1 == node.below.size();
        const std::string stem = indent + (last ? "   " : "│  ");
        const std::string text = wrapped(clean(node.below[i].text), 0, columns - shown_width(indent) - 6);
        std::string lines;
        for (const char c : text)
            lines += c == '\n' ? "\n" + stem + "   " : std::string(1, c);
        out += indent + (last ? "└─ " : "├─ ") + lines + "\n";
        draw(node.below[i], stem, columns, out);
    }
}

Node stack_tree(const CheckReport& r, const StackPlan& s) {
    Node root;
    const auto& all = r.scan.exposures;
    std::map<std::string, std::vector<std::size_t>> misses; // text, and the groups it holds for
    std::vector<std::string> order;
    for (std::size_t g = 0; g < s.groups.size(); ++g) {
        const LightsPairedAlike& group = s.groups[g];
        const LightPlan& first = s.lights[group.lights.front()];
        const Exposure& e = all[first.exposure];
        Span warmth;
        for (const std::size_t l : group.lights)
            warmth.add(all[s.lights[l].exposure].sensor_temperature());
        Node node{fmt::format("{} light{}{}, {}, {}{}", group.lights.size(), group.lights.size() == 1 ? "" : "s",
                              e.night.empty() ? "" : " of " + e.night, seconds_text(e.seconds), warmth.text("C", 1),
                              e.gain ? fmt::format(", {} {:g}", e.gain_is_iso ? "ISO" : "gain", *e.gain) : ""),
                  {}};
        Node dark{fmt::format("dark: {}",
                              first.dark ? fmt::format("{}: {}", master_text(r.pairing, *first.dark), first.dark_reason)
                                         : first.dark_reason),
                  {}};
        if (first.bias)
            dark.below.push_back({fmt::format("with the bias {}", master_text(r.pairing, *first.bias)), {}});
        Node flat{fmt::format("flat: {}",
                              first.flat ? fmt::format("{}: {}", master_text(r.pairing, *first.flat), first.flat_reason)
                                         : first.flat_reason),
                  {}};
        if (first.flat && !r.pairing.masters[*first.flat].existing) {
            const MasterPlan& f = r.pairing.masters[*first.flat];
            flat.below.push_back(
                {fmt::format("its offset: {}",
                             f.offset ? fmt::format("{}: {}", master_text(r.pairing, *f.offset), f.offset_reason)
                                      : f.offset_reason),
                 {}});
        }
        node.below = {std::move(dark), std::move(flat)};
        root.below.push_back(std::move(node));
        for (const NearMiss& m : group.near_misses) {
            const std::string text = fmt::format("{}: {}{}", master_text(r.pairing, m.master), m.reason,
                                                 m.allowed.empty() ? "" : "; " + m.allowed);
            if (!misses.count(text)) order.push_back(text);
            misses[text].push_back(g);
        }
    }
    Node not_taken{"not taken", {}};
    constexpr std::size_t kShown = 8;
    for (const std::string& text : order) {
        if (not_taken.below.size() == kShown) {
            not_taken.below.push_back({fmt::format("and {} more (--json shows all)", order.size() - kShown), {}});
            break;
        }
        not_taken.below.push_back({text, {}});
    }
    if (!not_taken.below.empty()) root.below.push_back(std::move(not_taken));
    return root;
}

} // namespace

std::string check_text(const CheckReport& r, int columns) {
    std::string out;
    for (const StackPlan& s : r.pairing.stacks) {
        double seconds = 0;
        for (const LightPlan& l : s.lights)
            seconds += r.scan.exposures[l.exposure].seconds.value_or(0);
        out += fmt::format("{}  {} light{}, {}  ({})\n", clean(s.name), s.lights.size(),
                           s.lights.size() == 1 ? "" : "s", exposure_text(seconds), clean(s.sensor));
        draw(stack_tree(r, s), "", static_cast<std::size_t>(columns), out);
        out += "\n";
    }
    if (r.pairing.stacks.empty()) out += "There are no lights, so nothing is paired.\n\n";
    out += r.findings.empty() ? "Nothing is wrong or missing.\n" : "Findings\n" + findings_text(r.findings, columns);
    const CostEstimate& c = r.cost;
    if (c.masters + c.stacks == 0 && c.composites > 0)
        out += fmt::format("\nA run will make {} image{} of the finished master lights.\n", c.composites,
                           c.composites == 1 ? "" : "s");
    else if (c.masters + c.stacks == 0)
        out += r.pairing.stacks.empty() ? ""
               : c.failed == 0          ? "\nA run has nothing to do: all is done.\n"
                               : fmt::format("\nA run has nothing to do, but {} master light{} cannot be made of the "
                                             "files as they are.\n",
                                             c.failed, c.failed == 1 ? "" : "s");
    else
        out += "\n" +
               wrapped(
                   fmt::format("A run will build {} master{}, measure {} light{} and integrate {} stack{}: about {}{}. "
                               "Results take {} in {} ({} free).",
                               c.masters, c.masters == 1 ? "" : "s", c.lights, c.lights == 1 ? "" : "s", c.stacks,
                               c.stacks == 1 ? "" : "s", duration_text(std::max(1.0, c.seconds)),
                               c.measured ? ", as the last run went here" : ", on a usual machine",
                               size_text(c.result_bytes), r.output, size_text(c.free_bytes)),
                   0, static_cast<std::size_t>(columns)) +
               "\n";
    if (c.cache_bytes > 0 && c.stacks > 0)
        out += fmt::format("Decoded pixels are kept in the cache: up to {}.\n", size_text(c.cache_bytes));
    return out;
}

std::string status_text(const StatusReport& r, int columns) {
    if (r.results.empty())
        return fmt::format("{} exposures; nothing to make of them ('kasane check' says why).\n", r.exposures);
    std::string out;
    Table t({"result", "kind", "frames", "state", "made in"});
    for (const ResultStatus& s : r.results)
        t.add({s.name, s.kind, fmt::format("{}", s.frames), std::string(state_name(s.state)),
               s.state == ResultStatus::State::done && s.time > 0 ? duration_text(s.time) : "-"});
    out += t.text(columns, {"made in", "kind"});
    std::string reasons;
    for (const ResultStatus& s : r.results)
        for (const std::string& why : s.reasons)
            reasons +=
                fmt::format("  {}: {}\n", clean(s.name), wrapped(clean(why), 4, static_cast<std::size_t>(columns)));
    if (!reasons.empty()) out += "\nWhy\n" + reasons;
    if (!r.leftovers.empty()) {
        out += "\nNothing asks for these any more; delete them if you like\n";
        for (const std::string& file : r.leftovers)
            out += fmt::format("  {}/{}\n", clean(r.output), clean(file));
    }
    if (!r.holdings.empty()) {
        out += "\nRemembered beside the results\n";
        Table held({"kind", "files", "size", "what"});
        for (const Holding& h : r.holdings)
            held.add({h.name, fmt::format("{}", h.files), size_text(h.bytes),
                      h.name == "cache" ? fmt::format("{}, of {} at most", h.what, size_text(r.cache_limit)) : h.what});
        out += held.text(columns, {});
        out += "  'kasane forget' lets go of what can be made again.\n";
    }
    const auto any = [&](ResultStatus::State state) {
        return std::any_of(r.results.begin(), r.results.end(), [&](const ResultStatus& s) { return s.state == state; });
    };
    if (any(ResultStatus::State::stale) || any(ResultStatus::State::missing))
        out += "\n'kasane run' makes what is stale or not made yet.\n";
    if (any(ResultStatus::State::failed)) out += "\nSome cannot be made of the files as they are.\n";
    if (r.all_done()) out += "\nAll is done.\n";
    return out;
}

std::string forget_text(const ForgetReport& r, int columns) {
    if (r.files.empty()) return "There is nothing of the kind to forget.\n";
    std::string out;
    constexpr std::size_t kNamed = 12; // of a kind
    for (const char* kind : {"results", "cache", "previews"}) {
        std::size_t count = 0;
        std::uint64_t bytes = 0;
        std::string names;
        for (const ForgetReport::File& f : r.files) {
            if (f.kind != kind) continue;
            bytes += f.problem.empty() ? f.bytes : 0;
            if (f.problem.empty()) ++count;
            if (kind == std::string("results") && count <= kNamed && f.problem.empty())
                names += fmt::format("  {} ({})\n", clean(f.path), size_text(f.bytes));
        }
        if (count == 0) continue;
        const bool one = count == 1;
        if (kind == std::string("results"))
            out += fmt::format("{} result{} that nothing asks for any more ({}):\n", count, one ? "" : "s",
                               size_text(bytes)) +
                   names;
        else if (kind == std::string("cache"))
            out += fmt::format("{} file{} of decoded pixels ({}), decoded again when the originals are read next\n",
                               count, one ? "" : "s", size_text(bytes));
        else
            out += fmt::format("{} preview{} ({}); for new ones the lights are measured again\n", count, one ? "" : "s",
                               size_text(bytes));
        if (!names.empty() && count > kNamed) out += fmt::format("  and {} more\n", count - kNamed);
    }
    for (const ForgetReport::File& f : r.files)
        if (!f.problem.empty())
            out += fmt::format("{}\n", wrapped(fmt::format("Left: {} {}", clean(f.path), clean(f.problem)), 2,
                                               static_cast<std::size_t>(columns)));
    out += r.removed ? fmt::format("Removed; {} are free again.\n", size_text(r.bytes()))
                     : "Nothing was removed. With --yes these go.\n";
    return out;
}

} // namespace kasane
