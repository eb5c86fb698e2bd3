#include <kasane/stages/grade.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/hash.hpp>
#include <kasane/base/units.hpp>
#include <kasane/grading/obstruction.hpp>
#include <kasane/image/statistics.hpp>
#include <kasane/integration/lengths.hpp>
#include <kasane/registration/star_index.hpp>
#include <kasane/stages/align.hpp>
#include <kasane/stages/mask_offer.hpp>
#include <kasane/stages/masks.hpp>
#include <kasane/stages/measure.hpp>
#include <kasane/stages/panels.hpp>
#include <kasane/stages/reference_choice.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <map>
#include <sstream>

namespace kasane {

int grid_cell(const Session& s, const Exposure& e) {
    const ColourMethod m = colour_method(s, e);
    const bool full = e.cfa.empty() || m == ColourMethod::adaptive || m == ColourMethod::bilinear;
    return full ? 1 : CfaPattern(e.cfa).cell();
}

std::vector<Limit> limits_of(const Session& s) {
    std::vector<Limit> limits;
    for (const std::string& text : s.recipe.grading.limits)
        limits.push_back(parse_limit(text));
    return limits;
}

namespace {

/// Whether any light of the stack has a filter that the limit is for.
bool speaks_of(const Limit& limit, const Session& s, const StackPlan& plan) {
    return limit.filters.empty() || std::any_of(plan.lights.begin(), plan.lights.end(), [&](const LightPlan& l) {
               const auto& f = limit.filters;
               return std::find(f.begin(), f.end(), s.exposures[l.exposure].filter) != f.end();
           });
}

/// What the verdicts of a stack depend on.
std::string judge_key(const Session& s, const Calibrations& calibrations, const StackPlan& plan,
                      const std::string& reference) {
    Key key("judged");
    key.add(plan.identity, reference, s.recipe.grading.part, optics_identity(s, plan, reference));
    for (const Limit& limit : limits_of(s))
        if (speaks_of(limit, s, plan)) key.add(limit);
    for (const LightPlan& l : plan.lights) { // other stacks have a say only through the reference
        const Exposure& e = s.exposures[l.exposure];
        key.add(measure_key(s, calibrations, l), s.metadata_key(l.exposure), s.verdicts.decision(e));
    }
    return key.result();
}

class GroupGrading {
public:
    GroupGrading(Session& s, Calibrations& c, const ReferenceGroup& g) : s_(s), calibrations_(c), group_(g) {}

    GradedLights run(const std::string& remembered) {
        measure();
        offer_masks(s_, out_.lights);
        auto remember = choose_reference(s_, group_, remembered, out_);
        if (out_.reference) {
            align();
            // The grid of a mosaic is tangent to the sky at its reference: in the middle it is stretched least.
            if (const int middle = middle_panel(out_);
                remembered.empty() && middle >= 0 && middle != panel_of_reference() && reference_is_free(s_, group_)) {
                remember = choose_reference_of_panel(s_, group_, middle, out_);
                align();
            }
            remember();
        }
        for (std::size_t k = 0; k < group_.stacks.size(); ++k) {
            compare_by_kin(out_.lights[k]);
            judge_stack(s_.pairing.stacks[group_.stacks[k]], out_.lights[k]);
        }
        return std::move(out_);
    }

private:
    void align() {
        align_group(s_, calibrations_, group_, out_);
        for (auto& stack : out_.lights)
            for (Light& l : stack)
                if (l.registration) place(l);
        find_panels(out_);
    }

    int panel_of_reference() const {
        for (const auto& stack : out_.lights)
            for (const Light& l : stack)
                if (l.measures == out_.reference) return l.panel;
        return -1;
    }

    void measure() {
        std::vector<const LightPlan*> plans;
        for (const std::size_t i : group_.stacks)
            for (const LightPlan& l : s_.pairing.stacks[i].lights)
                plans.push_back(&l);
        std::vector<Measured> measured = measure_lights(s_, calibrations_, plans);
        std::size_t at = 0;
        for (const std::size_t i : group_.stacks) {
            std::vector<Light> lights;
            for (const LightPlan& plan : s_.pairing.stacks[i].lights) {
                Measured& m = measured[at++];
                Light l;
                l.plan = &plan;
                l.exposure = &s_.exposures[plan.exposure];
                l.measures = std::move(m.measures);
                l.decision = s_.verdicts.decision(*l.exposure);
                l.unread = m.unread;
                if (!l.measures) l.problem = m.remedy.empty() ? m.problem : m.problem + ". " + m.remedy;
                lights.push_back(std::move(l));
            }
            out_.lights.push_back(std::move(lights));
        }
    }

    /// Where the frame's centre lies on the reference's grid.
    void place(Light& l) const {
        const Point middle{0.5 * (l.measures->width - 1), 0.5 * (l.measures->height - 1)};
        const Point here = l.registration->to_frame.unmap(middle);
        l.pose = {l.exposure->time.value_or(0), here.x - out_.canvas.centre().x, here.y - out_.canvas.centre().y,
                  l.registration->to_frame.at(here).rotation(), l.measures->main().eccentricity};
    }

    LevelInput level_input(const Light& l) const {
        const auto p = static_cast<std::size_t>(l.main_plane());
        return {&l.measures->planes[p], l.to_frame[p],      l.exposure->seconds.value_or(0),
                l.measures->width,      l.measures->height, &l.measures->streaks};
    }

    /// Exposures are held against those of their own panel and length.
    using Kin = std::pair<int, int>;
    static Kin kin_of(const Light& l) { return {l.panel, l.length}; }

    /// Each length of each panel by itself, then all on one scale: panels by the stars at their edges, lengths of a
    /// panel on that of the longest.
    void compare_by_kin(std::vector<Light>& lights) {
        std::vector<double> full_at;
        for (const Light& l : lights)
            full_at.push_back(known_time(l) ? 1 / *l.exposure->seconds : 0);
        const std::vector<int> lengths = lengths_of(full_at);
        std::map<Kin, std::vector<std::size_t>> kins;
        for (std::size_t k = 0; k < lights.size(); ++k) {
            lights[k].length = lengths[k];
            kins[kin_of(lights[k])].push_back(k);
        }
        int number = 0;
        for (const auto& [kin, which] : kins) {
            for (const std::size_t k : which)
                lights[k].kin = number;
            ++number;
        }
        if (kins.size() < 2) return compare(lights);
        std::map<Kin, const Light*> best;
        for (const auto& [kin, which] : kins) {
            std::vector<Light> alike;
            for (const std::size_t k : which)
                alike.push_back(std::move(lights[k]));
            compare(alike);
            auto next = alike.begin();
            for (const std::size_t k : which) {
                lights[k] = std::move(*next++);
                const Light& l = lights[k];
                if (l.registration && (!best[kin] || l.contribution.information > best[kin]->contribution.information))
                    best[kin] = &l;
            }
        }
        std::map<int, const Light*> longest; // by panel: of its longest exposures the best
        for (const auto& [kin, l] : best)
            if (l) longest.emplace(kin.first, l);
        if (longest.empty()) return;
        std::vector<double> scale(lights.size(), 1);
        if (longest.size() > 1) {
            const std::vector<StarScale> all = scales_of(lights, longest.begin()->second);
            for (std::size_t k = 0; k < lights.size(); ++k)
                scale[k] = all[k].scale;
        }
        for (const auto& [kin, which] : kins) {
            if (!best[kin]) continue;
            const Light* lead = longest.at(kin.first);
            double factor = scale[static_cast<std::size_t>(lead - lights.data())];
            if (lead != best[kin])
                factor *= fit_star_scale(level_input(*lead), level_input(*best[kin]), out_.canvas).scale;
            for (const std::size_t k : which)
                if (lights[k].registration) {
                    lights[k].level.scale *= factor;
                    lights[k].contribution.information /= factor * factor;
                }
        }
    }

    /// Light of the stars, worth, signal to noise, what is hidden: all against the best light among them.
    void compare(std::vector<Light>& lights) {
        const Light* base = nullptr;
        for (Light& l : lights) {
            if (!l.measures) continue;
            const Exposure& e = *l.exposure;
            l.figures = describe_frame(*l.measures, e.seconds.value_or(0), arcsec_per_pixel(e, grid_cell(s_, e)),
                                       s_.recipe.grading.part);
            if (l.registration && (!base || l.measures->main().count > base->measures->main().count)) base = &l;
        }
        times_known_ = std::any_of(lights.begin(), lights.end(), [](const Light& l) { return known_time(l); });
        const std::vector<StarScale> levels = scales_of(lights, base);
        std::size_t best = 0;
        double most = -1, clearest = 0;
        for (std::size_t i = 0; i < lights.size(); ++i) {
            Light& l = lights[i];
            if (!l.registration) continue;
            l.level = levels[i];
            if (&l == base) l.level.stars = static_cast<int>(l.measures->main().stars.size());
            const double info = information(l.level.scale, l.measures->main().noise);
            if (info > most) {
                most = info;
                best = i;
            }
            clearest = std::max(clearest, rate(l));
        }

        if (!base) return;
        const std::vector<double> dark = darkened(lights);
        // A nebula in the middle makes every frame's edges dark.
        constexpr double kBeyond = 0.08;
        std::vector<float> edges;
        for (const Light& l : lights)
            if (l.measures) edges.push_back(static_cast<float>(l.measures->darkened_edge));
        const double usual_edge = edges.empty() ? 0 : median_in_place(edges);
        std::vector<double> infos, seconds;
        const double best_scale = lights[best].level.scale;
        hide(*base, lights);
        for (Light& l : lights) {
            if (const double share = dark[static_cast<std::size_t>(&l - lights.data())]; std::isfinite(share))
                l.figures[Measure::obstructed] = std::fmax(
                    l.figures[Measure::obstructed],
                    std::max(share, l.measures->darkened_edge > usual_edge + kBeyond ? l.measures->darkened_edge : 0));
            if (l.registration) l.level.scale /= best_scale;
            infos.push_back(l.registration ? information(l.level.scale, l.measures->main().noise) : 0);
            seconds.push_back(l.exposure->seconds.value_or(0));
        }
        const std::vector<double> worth = worths(infos, seconds);
        const double typical = typical_flux(*base) / best_scale;
        for (std::size_t i = 0; i < lights.size(); ++i) {
            Light& l = lights[i];
            if (!l.registration) continue;
            if (l.level.stars > 0) {
                if (rate(l) > 0) l.figures[Measure::transparency] = rate(l) / (clearest * best_scale);
                // A background-limited, profile-weighted measurement (I. King, PASP 95, 1983).
                const double fwhm = l.measures->main().fwhm;
                if (fwhm > 0)
                    l.figures[Measure::snr] = typical / l.level.scale / l.measures->main().noise /
                                              (std::sqrt(4 * kPi) * fwhm / kFwhmPerSigma);
            }
            l.figures[Measure::worth] = worth[i];
            l.figures[Measure::dx] = l.pose.x;
            l.figures[Measure::dy] = l.pose.y;
            l.figures[Measure::rotation] = l.pose.rotation;
            l.contribution = {infos[i], seconds[i], std::isfinite(worth[i]) ? worth[i] : 0, l.measures->main().fwhm};
        }
    }

    /// Of the registered lights, against the lead; by light.
    std::vector<StarScale> scales_of(const std::vector<Light>& lights, const Light* lead) const {
        std::vector<StarScale> out(lights.size());
        std::vector<LevelInput> inputs;
        std::vector<std::size_t> at;
        std::size_t first = 0;
        for (std::size_t i = 0; i < lights.size(); ++i) {
            if (!lights[i].registration) continue;
            if (&lights[i] == lead) first = at.size();
            inputs.push_back(level_input(lights[i]));
            at.push_back(i);
        }
        const std::vector<StarScale> found = fit_star_scales(inputs, out_.canvas, first);
        for (std::size_t k = 0; k < found.size(); ++k)
            out[at[k]] = found[k];
        return out;
    }

    static bool known_time(const Light& l) { return l.exposure->seconds.value_or(0) > 0; }

    /// Star light a second, up to a factor; 0 where it was not measured, or cannot be compared because the seconds are
    /// known of other lights only.
    double rate(const Light& l) const {
        if (l.level.stars == 0 || !(l.level.scale > 0)) return 0;
        if (times_known_ && !known_time(l)) return 0;
        return 1 / l.level.scale / (times_known_ ? *l.exposure->seconds : 1);
    }

    static double typical_flux(const Light& l) {
        std::vector<float> fluxes;
        for (const Star& s : l.measures->main().stars)
            if (!s.saturated) fluxes.push_back(static_cast<float>(s.flux));
        return fluxes.empty() ? 0 : median_in_place(fluxes);
    }

    /// A star of the stack's richest light that another one should show as well.
    struct Sighting {
        std::size_t star = 0; ///< of the richest light's list
        ExpectedStar expected;
    };

    std::vector<Sighting> sightings(const Light& base, const Light& l) const {
        const auto hidden = mask_of(s_, *l.exposure);
        const int cell = grid_cell(s_, *l.exposure);
        const auto is_hidden = [&](double x, double y) {
            const int u = static_cast<int>(cell * x), v = static_cast<int>(cell * y);
            return hidden && u >= 0 && v >= 0 && u < hidden->width() && v < hidden->height() && (*hidden)(u, v);
        };
        constexpr double kClear = 8;  // expected signal to noise, from which on a star is not missed by chance
        constexpr double kNear = 2.5; // pixels
        const std::vector<Star>&there = base.measures->main().stars, &here = l.measures->main().stars;
        const StarIndex index(here);
        const double noise = l.measures->main().noise / base.measures->main().noise,
                     width = l.measures->main().fwhm > 0 && base.measures->main().fwhm > 0
                                 ? l.measures->main().fwhm / base.measures->main().fwhm
                                 : 1;
        std::vector<Sighting> out;
        for (std::size_t i = 0; i < there.size() * 4 / 5;
             ++i) { // the weakest may be missing from a list of the brightest
            const Star& s = there[i];
            if (s.flux / l.level.scale < kClear * s.flux_sigma * noise * width) continue;
            ExpectedStar e;
            const Point at = l.registration->to_frame.map(base.registration->to_frame.unmap({s.x, s.y}));
            e.x = at.x, e.y = at.y;
            constexpr double kEdge = 8;
            if (e.x < kEdge || e.y < kEdge || e.x > l.measures->width - kEdge || e.y > l.measures->height - kEdge)
                continue;
            if (is_hidden(e.x, e.y)) continue;
            e.found = index.nearest(e.x, e.y, kNear) >= 0;
            out.push_back({i, e});
        }
        return out;
    }

    /// What of each light is hidden, by the stars that it should show. What only the richest light shows (particles,
    /// hot pixels, knots of nebula) is no star: where stars are few, a few of them would make a roof.
    void hide(const Light& base, std::vector<Light>& lights) const {
        constexpr double kConfirmed = 0.25; // of the other lights that should show it
        std::vector<std::vector<Sighting>> all(lights.size());
        std::vector<int> wanted(base.measures->main().stars.size()), seen(wanted.size());
        for (std::size_t k = 0; k < lights.size(); ++k) {
            if (!lights[k].registration) continue;
            all[k] = sightings(base, lights[k]);
            if (&lights[k] == &base) continue;
            for (const Sighting& s : all[k]) {
                ++wanted[s.star];
                seen[s.star] += s.expected.found;
            }
        }
        for (std::size_t k = 0; k < lights.size(); ++k) {
            if (!lights[k].registration) continue;
            std::vector<ExpectedStar> expected;
            for (const Sighting& s : all[k])
                if (wanted[s.star] < 2 || seen[s.star] >= kConfirmed * wanted[s.star]) expected.push_back(s.expected);
            lights[k].figures[Measure::obstructed] =
                obstructed_share(expected, lights[k].measures->width, lights[k].measures->height);
        }
    }

    /// Of each light, the share that is darker than the others make expect; only where the level without light is
    /// known.
    std::vector<double> darkened(const std::vector<Light>& lights) const {
        constexpr int kStep = 48; // pixels of the reference's grid
        std::vector<std::vector<float>> levels;
        std::vector<double> noise;
        std::vector<std::size_t> which;
        for (std::size_t i = 0; i < lights.size(); ++i) {
            const Light& l = lights[i];
            if (!l.registration || !(l.plan->dark || l.plan->bias || l.plan->offset_level)) continue;
            std::vector<float> level;
            for (int y = kStep / 2; y < out_.canvas.height; y += kStep)
                for (int x = kStep / 2; x < out_.canvas.width; x += kStep) {
                    const auto [u, v] = l.registration->to_frame.map({static_cast<double>(x), static_cast<double>(y)});
                    const bool inside = u >= 0 && v >= 0 && u < l.measures->width && v < l.measures->height;
                    level.push_back(inside ? l.measures->main().mesh.level_at(u, v) : kNoData);
                }
            levels.push_back(std::move(level));
            noise.push_back(l.measures->main().noise);
            which.push_back(i);
        }
        std::vector<double> out(lights.size(), kNoData);
        const std::vector<double> shares = darkened_shares(levels, noise);
        for (std::size_t k = 0; k < which.size(); ++k)
            out[which[k]] = shares[k];
        return out;
    }

    void judge_stack(const StackPlan& plan, std::vector<Light>& lights) {
        const auto usual_count = [&](Kin kin) {
            std::vector<float> counts;
            for (const Light& l : lights)
                if (l.measures && kin_of(l) == kin) counts.push_back(static_cast<float>(l.measures->main().count));
            return counts.empty() ? 0.0 : static_cast<double>(median_in_place(counts));
        };
        std::vector<Candidature> stack;
        for (const Light& l : lights) {
            Candidature c;
            c.figures = l.measures ? &l.figures : nullptr;
            c.night = l.exposure->night;
            c.filter = l.exposure->filter;
            c.kin = l.kin;
            c.person = l.decision;
            if (!l.measures) {
                c.hindrance = l.problem;
            } else if (!l.registration) {
                constexpr double kMany = 0.5;
                c.hindrance = "cannot be registered: " + l.registration.text;
                const auto& model = s_.recipe.registration.model;
                if (l.registration.hindrance == Hindrance::in_part_only && model)
                    c.hindrance += fmt::format("; the recipe's model \"{}\" may be too simple", model_text(model));
                else if (const double usual = usual_count(kin_of(l));
                         l.registration.hindrance == Hindrance::no_agreement &&
                         l.measures->main().count > kMany * usual && usual > 20)
                    c.hindrance += "; it has stars enough, so it may show another field";
            }
            stack.push_back(std::move(c));
        }
        const std::vector<Verdict> verdicts = judge(stack, limits_of(s_));
        std::string kept;
        for (std::size_t i = 0; i < lights.size(); ++i) {
            lights[i].verdict = verdicts[i];
            kept += lights[i].exposure->identity + (verdicts[i].keep ? "+" : "-");
        }
        take_level_of_best(lights);
        const std::string key = judge_key(s_, calibrations_, plan, out_.reference_fingerprint);
        s_.judged[key] = digest(kept);
        std::string fact = s_.judged[key]; // and the files that may be read another time
        for (const Light& l : lights)
            if (l.unread) fact += "\n" + l.exposure->path;
        s_.ledger.set_fact(key, fact);
    }

    /// What is forecast is on about the level that the master will have: that of the best lights together, kept or not,
    /// so that forecasts under other limits can be compared.
    static void take_level_of_best(std::vector<Light>& lights) {
        std::vector<double> scales, informations;
        for (const Light& l : lights)
            if (l.registration) {
                scales.push_back(l.level.scale);
                informations.push_back(l.contribution.information);
            }
        const double level = common_scale(scales, informations);
        for (Light& l : lights) {
            l.level.scale /= level;
            l.contribution.information *= level * level;
        }
    }

    Session& s_;
    Calibrations& calibrations_;
    const ReferenceGroup& group_;
    GradedLights out_;
    bool times_known_ = false; ///< of some lights of the stack that is compared
};

} // namespace

GradedLights grade_group(Session& session, Calibrations& calibrations, const ReferenceGroup& group,
                         const std::string& remembered) {
    return GroupGrading(session, calibrations, group).run(remembered);
}

std::optional<std::string> remembered_verdicts(const Session& session, const Calibrations& calibrations,
                                               const StackPlan& plan, const std::string& reference) {
    const std::string key = judge_key(session, calibrations, plan, reference);
    if (const auto now = session.judged.find(key); now != session.judged.end()) return now->second;
    const auto fact = session.ledger.fact(key);
    if (!fact) return std::nullopt;
    std::istringstream lines(*fact);
    std::string kept, path;
    std::getline(lines, kept);
    while (std::getline(lines, path))
        if (session.can_be_read(path)) return std::nullopt;
    return kept;
}

void judge_what_is_known(Session& s, Calibrations& calibrations, const ReferenceGroup& group) {
    const std::string reference = remembered_reference(s, group);
    if (reference.empty()) return;
    const auto all = [&](auto holds) {
        return std::all_of(group.stacks.begin(), group.stacks.end(),
                           [&](std::size_t k) { return holds(s.pairing.stacks[k]); });
    };
    if (all([&](const StackPlan& plan) { return remembered_verdicts(s, calibrations, plan, reference).has_value(); }))
        return;
    const bool measured = all([&](const StackPlan& plan) {
        return std::all_of(plan.lights.begin(), plan.lights.end(), [&](const LightPlan& l) {
            return s.ledger.fact(measure_key(s, calibrations, l)).has_value();
        });
    });
    if (measured) grade_group(s, calibrations, group, reference);
}

} // namespace kasane
