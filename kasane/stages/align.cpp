#include <kasane/stages/align.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/hash.hpp>
#include <kasane/base/units.hpp>
#include <kasane/image/statistics.hpp>
#include <kasane/registration/correlation.hpp>
#include <kasane/stages/align_records.hpp>
#include <kasane/stages/measure.hpp>
#include <kasane/stages/outside_image.hpp>

#include <algorithm>
#include <fmt/format.h>
#include <set>

namespace kasane {

namespace {

constexpr const char* kMosaic = "mosaic/";

/// The optics of a rig are remembered by it, so that another rig's do not touch what is finished with this one.
std::string choice_name(const std::string& group, const std::string& rig) {
    return "optics/" + group + "/" + digest(rig);
}

/// Of the planes of a rig: each colour has a lens of its own; what it does not share with green is lateral colour.
std::string rig_of_plane(const std::string& rig, std::size_t plane, bool main) {
    return main ? rig : fmt::format("{}|plane {}", rig, plane);
}

Rigs planes_of(const Rigs& all, const std::string& rig) {
    Rigs out;
    for (const auto& [name, optics] : all)
        if (name == rig || name.rfind(rig + "|plane ", 0) == 0) out.emplace(name, optics);
    return out;
}

/// The lights of a group that are of a rig, measured or not.
std::uint32_t lights_of(const Session& s, const std::string& group, const std::string& rig) {
    std::uint32_t n = 0;
    for (const StackPlan& plan : s.pairing.stacks) {
        if (reference_group_name(s, plan) != group) continue;
        for (const LightPlan& l : plan.lights)
            n += rig_of(s, s.exposures[l.exposure]) == rig;
    }
    return n;
}

/// What is remembered of a rig, and by what name; nothing where it was solved from a few lights and there are twice as
/// many now: a lens that two lights could not show may be plain in twenty.
std::optional<std::pair<std::string, Solved>> standing_optics(const Session& s, const std::string& group,
                                                              const std::string& rig) {
    constexpr std::uint32_t kFew = 20;
    const auto chosen = standing_choice(s, choice_name(group, rig));
    const auto fact = chosen ? s.ledger.fact(*chosen) : std::nullopt;
    auto solved = fact ? decode_solved(*fact) : std::nullopt;
    if (!solved || (solved->lights < kFew && lights_of(s, group, rig) >= 2 * solved->lights)) return std::nullopt;
    return std::pair(*chosen, std::move(*solved));
}

class GroupAlignment {
public:
    GroupAlignment(Session& s, Calibrations& c, const ReferenceGroup& g, GradedLights& graded)
        : s_(s), calibrations_(c), group_(g), graded_(graded) {}

    void run() {
        gather();
        const std::string basis = Key("optics")
                                      .add(kRecord, graded_.reference_fingerprint,
                                           model_text(s_.recipe.registration.model), s_.recipe.registration.part)
                                      .result();
        AlignOptions options;
        options.model = s_.recipe.registration.model;
        std::map<std::string, std::string> identities; // of the optics of each rig
        for (const Entry& e : entries_) {
            if (identities.count(e.rig)) continue;
            if (!e.light) {
                identities[e.rig] = kOutside;
                continue;
            }
            std::string& identity = identities[e.rig];
            const auto standing = standing_optics(s_, group_.name, e.rig);
            if (!standing || standing->second.basis != basis) continue;
            options.known.insert(standing->second.rigs.begin(), standing->second.rigs.end());
            identity = standing->first;
        }
        const std::string all = everything();
        if (s_.ledger.choice(mosaic_choice()) == all) mosaic_ = all;
        std::vector<std::optional<Outcome>> known(entries_.size());
        const auto recall = [&] {
            for (std::size_t i = 0; i < entries_.size(); ++i) {
                const auto fact = s_.ledger.fact(key_of(i, identities));
                known[i] = fact ? decode_outcome(*fact) : std::nullopt;
            }
        };
        recall();
        if (!std::all_of(known.begin(), known.end(), [](const auto& o) { return o.has_value(); })) {
            std::vector<FrameToAlign> frames;
            for (const Entry& e : entries_)
                frames.push_back(e.frame);
            const bool optics_known =
                std::none_of(identities.begin(), identities.end(), [](const auto& rig) { return rig.second.empty(); });
            options.progress = &s_.context.progress;
            s_.context.progress.begin("register", static_cast<std::int64_t>(frames.size()) * (optics_known ? 1 : 2));
            Alignment found = align_frames(frames, reference_, options, s_.context.workers);
            if (found.mosaic) { // all frames together, whatever was known of some
                mosaic_ = all;
                options.known.clear();
                std::fill(known.begin(), known.end(), std::nullopt);
                for (auto& [rig, identity] : identities)
                    if (rig != kOutside) identity.clear();
            } else if (const std::set<std::string> outgrown = outgrown_rigs(found, known, options.known);
                       !outgrown.empty()) {
                AlignOptions anew = options;
                for (const std::string& rig : outgrown)
                    for (const auto& [name, optics] : planes_of(options.known, rig))
                        anew.known.erase(name);
                s_.context.progress.begin("register anew", static_cast<std::int64_t>(frames.size()) * 2);
                Alignment again = align_frames(frames, reference_, anew, s_.context.workers);
                if (clearly_better(again, found, known, outgrown)) {
                    found = std::move(again);
                    options.known = std::move(anew.known);
                    for (const std::string& rig : outgrown)
                        identities[rig].clear();
                }
            }
            s_.context.progress.end();
            if (!found.mosaic) by_pictures(found.frames);
            s_.ledger.together([&] {
                if (found.mosaic) s_.ledger.set_choice(mosaic_choice(), all);
                for (auto& [rig, identity] : identities) {
                    if (!identity.empty() && (rig == kOutside || options.known.count(rig))) continue; // as it was
                    const std::string encoded =
                        encode({basis, lights_of(s_, group_.name, rig), planes_of(found.rigs, rig)});
                    identity = Key("optics of").add(encoded).result();
                    s_.ledger.set_fact(identity, encoded);
                    remember_choice(s_, choice_name(group_.name, rig), identity);
                }
                recall();
                for (std::size_t i = 0; i < entries_.size(); ++i) {
                    if (known[i]) continue;
                    known[i] = found.frames[i];
                    if (entries_[i].light && entries_[i].light->unread) continue; // another time it may be seen
                    s_.ledger.set_fact(key_of(i, identities), encode(*known[i]));
                }
            });
            options.known = found.rigs;
        }
        graded_.optics = options.known;
        hand_out(known);
    }

private:
    static constexpr std::size_t kNone = static_cast<std::size_t>(-1);
    static constexpr const char* kOutside = "outside"; ///< rig of a reference that is no light; nothing is solved of it
    static constexpr int kRecord = 2;                  ///< of how transforms are found; a new one finds them anew

    /// A plane of a light that is registered by itself: the one that stands for it, or a colour.
    struct Entry {
        Light* light; ///< null: an image from outside
        std::size_t plane;
        bool main;
        std::string rig;
        std::string key; ///< of its measures
        FrameToAlign frame;
    };

    /// Residuals of the lights of a rig that are new, over what their stars' own errors explain; and as pixels.
    struct Residuals {
        std::vector<float> relative, pixels;
    };
    std::map<std::string, Residuals> residuals_of_new(const Alignment& found,
                                                      const std::vector<std::optional<Outcome>>& known) const {
        std::map<std::string, Residuals> out;
        for (std::size_t i = 0; i < entries_.size(); ++i) {
            const Outcome& o = found.frames[i];
            if (known[i] || i == reference_ || !o || !(o->expected > 0)) continue;
            out[entries_[i].rig].relative.push_back(static_cast<float>(o->rms / o->expected));
            out[entries_[i].rig].pixels.push_back(static_cast<float>(o->rms));
        }
        return out;
    }

    /// Rigs whose remembered optics do not hold for lights that have come since: frames that hardly moved against each
    /// other cannot show a lens, those that did must not be held to its absence.
    std::set<std::string> outgrown_rigs(const Alignment& found, const std::vector<std::optional<Outcome>>& known,
                                        const Rigs& remembered) const {
        constexpr std::size_t kEnough = 3; // lights
        constexpr double kBeyond = 1.5;    // times what held before
        std::set<std::string> out;
        for (auto& [rig, residuals] : residuals_of_new(found, known)) {
            const auto it = remembered.find(rig);
            if (it == remembered.end() || residuals.relative.size() < kEnough) continue;
            const RigOptics& optics = it->second;
            const double held = optics.expected > 0 ? std::max(1.0, optics.after / optics.expected) : 1;
            if (static_cast<double>(median_in_place(residuals.relative)) > kBeyond * held) out.insert(rig);
        }
        return out;
    }

    bool clearly_better(const Alignment& now, const Alignment& before, const std::vector<std::optional<Outcome>>& known,
                        const std::set<std::string>& rigs) const {
        constexpr double kClearly = 0.8;
        auto a = residuals_of_new(now, known), b = residuals_of_new(before, known);
        return std::any_of(rigs.begin(), rigs.end(), [&](const std::string& rig) {
            return a[rig].pixels.size() >= b[rig].pixels.size() && !a[rig].pixels.empty() &&
                   static_cast<double>(median_in_place(a[rig].pixels)) <
                       kClearly * static_cast<double>(median_in_place(b[rig].pixels));
        });
    }

    void gather() {
        reference_ = kNone;
        for (auto& stack : graded_.lights)
            for (Light& l : stack) {
                if (!l.measures) continue;
                const Exposure& e = *l.exposure;
                const auto& planes = l.measures->planes;
                const auto main = static_cast<std::size_t>(l.main_plane());
                const bool colours = planes.size() == 3 && colour_method(s_, e) == ColourMethod::separate;
                for (std::size_t p = 0; p < planes.size(); ++p) {
                    if (p != main && !colours) continue;
                    if (p == main && l.measures == graded_.reference) reference_ = entries_.size();
                    const std::string rig = rig_of(s_, e);
                    entries_.push_back({&l,
                                        p,
                                        p == main,
                                        rig,
                                        measure_key(s_, calibrations_, *l.plan),
                                        {&planes[p].stars, l.measures->width, l.measures->height, e.path,
                                         rig_of_plane(rig, p, p == main), e.time.value_or(0), focal_of(e)}});
                }
            }
        if (reference_ != kNone) return take_part();
        reference_ = entries_.size(); // an image from outside
        const ExposureMeasures& m = *graded_.reference;
        entries_.push_back({nullptr,
                            0,
                            false,
                            kOutside,
                            graded_.reference_fingerprint,
                            {&m.main().stars, m.width, m.height, graded_.reference_path, kOutside, 0, 0}});
        take_part();
    }

    /// Pixels of the grid that it is measured on; 0 where it is not known.
    double focal_of(const Exposure& e) const {
        const double pixel = arcsec_per_pixel(e, grid_cell(s_, e));
        return pixel > 0 ? 3600 * degrees(1) / pixel : 0;
    }

    /// Of the reference only the stars in the part that the recipe names.
    void take_part() {
        const Region& part = s_.recipe.registration.part;
        if (part.empty()) return;
        FrameToAlign& reference = entries_[reference_].frame;
        for (const Star& star : *reference.stars)
            if (part.contains({static_cast<int>(star.x), static_cast<int>(star.y), 1, 1}))
                stars_of_part_.push_back(star);
        if (stars_of_part_.size() < 3)
            throw UsageError(
                fmt::format("[registration] part holds {} stars of {}", stars_of_part_.size(), graded_.reference_path),
                recipe_file(s_.options.folder), "Make it larger, or name another reference");
        reference.stars = &stars_of_part_;
    }

    /// Lights that their stars do not bring onto the reference, by their pictures.
    void by_pictures(std::vector<Outcome>& found) {
        std::vector<std::size_t> lost;
        for (std::size_t i = 0; i < entries_.size(); ++i)
            if (!found[i] && entries_[i].light && entries_[i].main) lost.push_back(i);
        if (lost.empty()) return;
        PicturePyramid reference;
        const Entry& leads = entries_[reference_];
        if (attempt([&] { reference = picture_of(*view_of(leads), main_plane_of(leads)); })) {
            for (const std::size_t i : lost) // another time
                entries_[i].light->unread = true;
            if (leads.light) s_.unread.insert(leads.light->exposure->path);
            return;
        }
        std::vector<std::shared_ptr<const FrameView>> views(lost.size());
        for (std::size_t k = 0; k < lost.size(); ++k)
            if (attempt([&] { views[k] = view_of(entries_[lost[k]]); })) entries_[lost[k]].light->unread = true;
        s_.context.progress.begin("align by pictures", static_cast<std::int64_t>(lost.size()));
        std::vector<Outcome> better(lost.size());
        s_.context.workers.for_each(lost.size(), [&](std::size_t k) {
            const Entry& e = entries_[lost[k]];
            better[k] = found[lost[k]];
            if (views[k] && attempt([&] {
                    better[k] = by_picture(e, found, reference, picture_of(*views[k], main_plane_of(e)), better[k]);
                }))
                entries_[lost[k]].light->unread = true;
            views[k].reset();
            s_.context.progress.advance();
        });
        s_.context.progress.end();
        for (std::size_t k = 0; k < lost.size(); ++k) {
            found[lost[k]] = std::move(better[k]);
            if (entries_[lost[k]].light->unread) s_.unread.insert(entries_[lost[k]].light->exposure->path);
        }
    }

    Outcome by_picture(const Entry& e, const std::vector<Outcome>& found, const PicturePyramid& reference,
                       const PicturePyramid& picture, const Outcome& failed) const {
        constexpr std::size_t kNeighbours = 2;
        std::vector<std::size_t> near;
        for (std::size_t i = 0; i < entries_.size(); ++i)
            if (found[i] && entries_[i].light && entries_[i].main && entries_[i].rig == e.rig) near.push_back(i);
        std::stable_sort(near.begin(), near.end(), [&](std::size_t a, std::size_t b) {
            return std::abs(entries_[a].frame.time - e.frame.time) < std::abs(entries_[b].frame.time - e.frame.time);
        });
        if (near.size() > kNeighbours) near.resize(kNeighbours);
        CorrelationOptions o;
        const Point middle = graded_.canvas.centre();
        // What stands still may be the sensor's own pattern, through a cap even: it is never taken for the sky.
        for (const std::size_t i : near)
            o.guesses.push_back(found[i]->to_frame.at(middle));
        Outcome seen = correlate_pictures(reference, picture, o);
        if (!seen) {
            Outcome out = failed;
            out.text += "; " + seen.text;
            return out;
        }
        seen.result->way += " (by its stars: " + failed.text + ")";
        // With the optics that are known, where a few stars can say where exactly.
        const double reach = std::max(4.0 * seen->rms, 2.0 * reference.fine_step);
        Outcome exact = refine_on_stars(*entries_[reference_].frame.stars, *e.frame.stars, seen->to_frame, reach,
                                        {.reference = {graded_.canvas.width, graded_.canvas.height, nullptr},
                                         .frame = {e.frame.width, e.frame.height, nullptr}});
        if (!exact && stars_should_agree(e)) {
            Outcome out = failed;
            out.text += "; its picture would agree with the reference's, but its stars do not";
            return out;
        }
        if (!exact) return seen;
        exact.result->way = fmt::format("{}; then by {} stars", seen->way, exact->matched);
        return exact;
    }

    /// As sharp as the reference's, and enough of them: then the same nebula beneath other stars is not the same field.
    bool stars_should_agree(const Entry& e) const {
        constexpr std::size_t kEnough = 12;
        constexpr double kSharp = 1.6;
        const Measures &here = e.light->measures->main(), &there = graded_.reference->main();
        return here.stars.size() >= kEnough && there.stars.size() >= kEnough && here.fwhm > 0 &&
               here.fwhm < kSharp * there.fwhm;
    }

    std::shared_ptr<const FrameView> view_of(const Entry& e) {
        if (!e.light) return view_of_image(outside_file(s_), &s_.cache);
        const auto& measures = e.light->measures;
        return calibrations_.view(*e.light->plan, std::shared_ptr<const OwnCorrections>(measures, &measures->own));
    }
    int main_plane_of(const Entry& e) const {
        return e.light ? e.light->main_plane() : main_plane(static_cast<int>(graded_.reference->planes.size()));
    }

    std::string key_of(std::size_t i, const std::map<std::string, std::string>& identities) const {
        const Entry &e = entries_[i], &r = entries_[reference_];
        return Key("registration")
            .add(kRecord, identities.at(r.rig), r.key, identities.at(e.rig), e.key, static_cast<int>(e.plane),
                 s_.recipe.registration.part, mosaic_)
            .result();
    }

    /// Panels are solved together: what one frame of a mosaic comes to rests on all of them.
    std::string everything() const {
        Key key("all frames of a group");
        key.add(kRecord, model_text(s_.recipe.registration.model), s_.recipe.registration.part,
                entries_[reference_].key);
        for (const Entry& e : entries_)
            key.add(e.key, static_cast<int>(e.plane));
        return key.result();
    }
    std::string mosaic_choice() const { return kMosaic + group_.name; }

    /// A colour that cannot be registered by itself goes as the plane that stands for the light.
    void hand_out(const std::vector<std::optional<Outcome>>& outcomes) {
        for (std::size_t i = 0; i < entries_.size(); ++i) {
            if (!entries_[i].main) continue;
            Light& l = *entries_[i].light;
            l.registration = *outcomes[i];
            if (l.registration) l.to_frame.assign(l.measures->planes.size(), l.registration->to_frame);
        }
        for (std::size_t i = 0; i < entries_.size(); ++i) {
            const Entry& e = entries_[i];
            if (e.light && !e.main && *outcomes[i] && e.light->registration)
                e.light->to_frame[e.plane] = (*outcomes[i])->to_frame;
        }
    }

    Session& s_;
    Calibrations& calibrations_;
    const ReferenceGroup& group_;
    GradedLights& graded_;
    std::vector<Entry> entries_;
    std::vector<Star> stars_of_part_; ///< of the reference
    std::size_t reference_ = 0;
    std::string mosaic_; ///< `everything`, where these frames are known to be of several fields
};

} // namespace

void align_group(Session& session, Calibrations& calibrations, const ReferenceGroup& group, GradedLights& graded) {
    GroupAlignment(session, calibrations, group, graded).run();
}

bool known_mosaic(const Session& s, const std::string& group) {
    return s.ledger.choice(kMosaic + group).has_value();
}

std::string rig_of(const Session& s, const Exposure& e) {
    return fmt::format("{}|{}|{}x{}|{}x{}|{}|{}|{:.1f}", e.camera, e.telescope, e.width, e.height, e.binning_x,
                       e.binning_y, grid_cell(s, e), e.turn, e.focal_length_mm.value_or(0));
}

std::string optics_identity(const Session& session, const StackPlan& plan, const std::string& reference) {
    std::set<std::string> rigs;
    for (const LightPlan& l : plan.lights)
        rigs.insert(rig_of(session, session.exposures[l.exposure]));
    for (const Exposure& e : session.exposures)
        if (e.identity == reference) rigs.insert(rig_of(session, e));
    Key key("how lights are registered");
    key.add(model_text(session.recipe.registration.model), session.recipe.registration.part);
    const std::string group = reference_group_name(session, plan);
    for (const std::string& rig : rigs) {
        const auto standing = standing_optics(session, group, rig);
        key.add(standing ? standing->first : "not solved yet");
    }
    return key.result();
}

} // namespace kasane
