#include <kasane/stages/reference_choice.hpp>

#include <kasane/base/error.hpp>
#include <kasane/registration/reference.hpp>
#include <kasane/stages/outside_image.hpp>

#include <algorithm>
#include <fmt/format.h>
#include <sstream>

namespace kasane {

namespace {

class Choosing {
public:
    Choosing(Session& s, const ReferenceGroup& g, GradedLights& graded, std::optional<int> panel = {})
        : s_(s), group_(g), out_(graded), panel_(panel) {}

    /// The image from outside, the light that a person wants, the remembered one if it is still there, else the best.
    /// Returns what remembers the choice.
    std::function<void()> run(const std::string& remembered) {
        const std::function<void()> nothing = [] {};
        if (!s_.recipe.registration.onto.empty()) {
            take_outside();
            return nothing;
        }
        std::vector<const Light*> candidates;
        for (const auto& lights : out_.lights)
            for (const Light& l : lights)
                if (l.measures && (!panel_ || (l.registration && l.panel == *panel_))) candidates.push_back(&l);
        const std::set<std::string> wished = wished_references(s_, group_);
        const auto is_wished = [&](const Light* l) { return wished.count(l->exposure->identity) > 0; };
        if (std::any_of(candidates.begin(), candidates.end(), is_wished)) {
            std::erase_if(candidates, [&](const Light* l) { return !is_wished(l); });
        } else if (!wished.empty()) {
            s_.set_aside(s_.recipe.registration.reference,
                         "cannot lead, though [registration] reference names it: it could not be measured; another "
                         "light does for now",
                         "Look at it with 'kasane show', or name another one");
        }
        const Light* reference = nullptr;
        if (candidates.empty()) return nothing;
        for (const Light* l : candidates)
            if (l->exposure->identity == remembered) reference = l;
        // One that was chosen before and cannot be read now leads again when it can.
        const bool for_now = !reference && !remembered.empty();
        const std::string memory = reference_choice(s_, group_);
        std::optional<std::string> why;
        if (reference) {
            recall_reasons(memory);
        } else {
            reference = best_candidate(std::move(candidates));
            why = reasons_text();
        }
        if (is_wished(reference))
            out_.reference_reason = "as [registration] reference says" +
                                    (wished.size() > 1 ? ": of those it names, " + out_.reference_reason : "");
        if (wished.size() == 1) out_.runners_up.clear();
        out_.reference_fingerprint = reference->exposure->identity;
        out_.reference = reference->measures;
        out_.reference_path = reference->exposure->path;
        const int cell = grid_cell(s_, *reference->exposure);
        out_.canvas = reference_canvas(reference->exposure->width / cell, reference->exposure->height / cell);
        if (for_now) return nothing;
        return [&s = s_, memory, why, chosen = out_.reference_fingerprint] {
            s.ledger.together([&] {
                if (why) s.ledger.set_choice("why " + memory, *why);
                remember_choice(s, memory, chosen);
            });
        };
    }

private:
    void take_outside() {
        out_.reference = measure_outside(s_);
        out_.reference_fingerprint = *outside_identity(s_);
        out_.reference_path = s_.recipe.registration.onto;
        out_.reference_reason = "as [registration] onto says";
        out_.canvas = reference_canvas(out_.reference->width, out_.reference->height);
    }

    /// One line a frame, the first of the reference itself.
    std::string reasons_text() const {
        return fmt::format("{}\n{}", out_.reference_reason, fmt::join(out_.runners_up, "\n"));
    }
    void recall_reasons(const std::string& memory) {
        std::istringstream lines(s_.ledger.choice("why " + memory).value_or("chosen before"));
        std::getline(lines, out_.reference_reason);
        for (std::string line; std::getline(lines, line);)
            if (!line.empty()) out_.runners_up.push_back(line);
    }

    /// The best frame onto which the others can be brought: one that a person drops should not lead the rest.
    const Light* best_candidate(std::vector<const Light*> candidates) {
        const auto dropped = [](const Light* l) { return l->decision && !l->decision->keep; };
        if (std::any_of(candidates.begin(), candidates.end(), [&](const Light* l) { return !dropped(l); }))
            std::erase_if(candidates, dropped);
        std::vector<ReferenceCandidate> frames;
        for (const Light* l : candidates) {
            const Measures& m = l->measures->main();
            frames.push_back({&m.stars, l->measures->width, l->measures->height, m.fwhm, m.eccentricity, m.noise});
        }
        const ReferenceRanking ranking = rank_references(frames, s_.context.workers);
        constexpr std::size_t kRunnersUp = 2;
        for (std::size_t i = 1; i < std::min(ranking.best.size(), kRunnersUp + 1); ++i)
            out_.runners_up.push_back(
                fmt::format("{}: {}", candidates[ranking.best[i].frame]->exposure->path, ranking.best[i].text()));
        const ReferenceMerit& first = ranking.best.front();
        out_.reference_reason = candidates.size() == 1
                                    ? (panel_ ? "the only light of the panel in the middle" : "there is no other")
                                    : fmt::format("the best of {} compared{} ({})", ranking.compared,
                                                  panel_ ? " of the panel in the middle" : "", first.text());
        return candidates[first.frame];
    }

    Session& s_;
    const ReferenceGroup& group_;
    GradedLights& out_;
    std::optional<int> panel_; ///< that it must show
};

} // namespace

std::function<void()> choose_reference(Session& session, const ReferenceGroup& group, const std::string& remembered,
                                       GradedLights& graded) {
    return Choosing(session, group, graded).run(remembered);
}

bool reference_is_free(const Session& s, const ReferenceGroup& group) {
    return s.recipe.registration.onto.empty() && s.recipe.registration.part.empty() &&
           wished_references(s, group).empty();
}

std::function<void()> choose_reference_of_panel(Session& session, const ReferenceGroup& group, int panel,
                                                GradedLights& graded) {
    graded.runners_up.clear();
    return Choosing(session, group, graded, panel).run({});
}

} // namespace kasane
