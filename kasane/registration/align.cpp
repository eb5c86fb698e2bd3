#include <kasane/registration/align.hpp>

#include <kasane/base/error.hpp>
#include <kasane/registration/mosaic.hpp>
#include <kasane/registration/panels.hpp>
#include <kasane/registration/sightings.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace kasane {

namespace {

const RigOptics* optics_of(const AlignOptions& o, const std::string& rig) {
    const auto it = o.known.find(rig);
    return it == o.known.end() ? nullptr : &it->second;
}

RegistrationOptions between(const FrameToAlign& reference, const FrameToAlign& frame, const AlignOptions& o) {
    RegistrationOptions out;
    const RigOptics *mine = optics_of(o, reference.rig), *theirs = optics_of(o, frame.rig);
    out.reference = {reference.width, reference.height, mine ? mine->lens : nullptr};
    out.frame = {frame.width, frame.height, theirs ? theirs->lens : nullptr};
    if (o.model) out.model = o.model;
    if (theirs && (mine || reference.rig == frame.rig)) out.model = Model{theirs->model.mapping, Optics::none};
    return out;
}

/// First `q`, then `p`.
std::array<double, 9> product(const std::array<double, 9>& p, const std::array<double, 9>& q) {
    using Rows = Eigen::Matrix<double, 3, 3, Eigen::RowMajor>;
    Rows m = Eigen::Map<const Rows>(p.data()) * Eigen::Map<const Rows>(q.data());
    m /= m(2, 2);
    std::array<double, 9> r{};
    std::copy_n(m.data(), r.size(), r.begin());
    return r;
}

bool same(const std::shared_ptr<const Lens>& a, const std::shared_ptr<const Lens>& b) {
    return a && b ? *a == *b : a == b;
}

/// `thorough`: as RegistrationOptions.
Outcome align_frame(const FrameToAlign& reference, const FrameToAlign& frame, const AlignOptions& o, bool thorough) {
    const RigOptics* optics = optics_of(o, frame.rig);
    RegistrationOptions options = between(reference, frame, o);
    options.thorough = thorough;
    Outcome out = register_stars(*reference.stars, *frame.stars, options);
    if (!out && optics && optics->lens) { // without a lens rather than not at all
        options.reference.lens = options.frame.lens = nullptr;
        options.model = o.model;
        if (Outcome bare = register_stars(*reference.stars, *frame.stars, options)) return bare;
    }
    if (out && optics && out->model.optics == Optics::none) out.result->model.optics = optics->model.optics;
    return out;
}

class Aligner {
public:
    Aligner(const std::vector<FrameToAlign>& frames, std::size_t reference, const AlignOptions& options,
            const Workers& workers)
        : frames_(frames), reference_(reference), o_(options), workers_(workers) {}

    Alignment run() {
        out_.frames.resize(frames_.size());
        out_.frames[reference_] = Outcome::of(itself());
        workers_.for_each(frames_.size(), [&](std::size_t i) {
            if (i != reference_) out_.frames[i] = align_frame(frames_[reference_], frames_[i], o_, false);
            if (o_.progress) o_.progress->advance();
        });
        std::vector<std::size_t> lost;
        for (std::size_t i = 0; i < frames_.size(); ++i)
            if (!out_.frames[i]) lost.push_back(i);
        if (!lost.empty() || several_fields()) {
            if (auto found = align_mosaic({frames_, reference_, out_.frames, o_.model}, workers_)) {
                for (std::size_t i = 0; o_.progress && i < frames_.size(); ++i)
                    o_.progress->advance();
                return std::move(*found);
            }
            workers_.for_each(lost.size(), [&](std::size_t k) {
                out_.frames[lost[k]] = align_frame(frames_[reference_], frames_[lost[k]], o_, true);
            });
        }
        // The reference's own rig first: its lens is that of the grid.
        std::vector<std::string> rigs = {frames_[reference_].rig};
        for (const FrameToAlign& f : frames_)
            if (std::find(rigs.begin(), rigs.end(), f.rig) == rigs.end()) rigs.push_back(f.rig);
        for (const std::string& rig : rigs)
            solve(rig);
        out_.rigs = o_.known;
        through_others();
        return std::move(out_);
    }

private:
    bool several_fields() const {
        std::vector<PanelFrame> placed;
        for (std::size_t i = 0; i < frames_.size(); ++i)
            if (out_.frames[i]) placed.push_back({out_.frames[i]->to_frame, frames_[i].width, frames_[i].height});
        return count_panels(panels_of(placed)) > 1;
    }

    Registration itself() const {
        Registration r;
        r.matched = static_cast<int>(frames_[reference_].stars->size());
        r.share = 1;
        if (const RigOptics* optics = optics_of(o_, frames_[reference_].rig))
            r.model = {optics->model.mapping, optics->model.optics};
        for (int i = 0; i < r.matched; ++i)
            r.matches.push_back({i, i});
        return r;
    }

    /// The optics of a rig where they are not known, and its frames again with them.
    void solve(const std::string& rig) {
        if (optics_of(o_, rig)) return;
        RigProblem p;
        p.reference = frames_[reference_].stars;
        p.reference_normal = Normal::of(frames_[reference_].width, frames_[reference_].height);
        p.own = rig == frames_[reference_].rig;
        if (const RigOptics* mine = optics_of(o_, frames_[reference_].rig); mine && !p.own)
            p.reference_lens = mine->lens;
        p.model = o_.model;
        std::vector<std::size_t> members;
        for (std::size_t i = 0; i < frames_.size(); ++i) {
            if (frames_[i].rig != rig || i == reference_) continue;
            members.push_back(i);
            if (!out_.frames[i]) continue;
            p.frames.push_back({frames_[i].stars, Normal::of(frames_[i].width, frames_[i].height),
                                out_.frames[i]->to_frame, &out_.frames[i]->matches});
        }
        if (p.frames.empty()) return;
        o_.known[rig] = solve_rig(p, workers_);
        workers_.for_each(members.size(), [&](std::size_t k) {
            // From the beginning, not from the pairs that are known: the same as where the optics were known before.
            out_.frames[members[k]] = align_frame(frames_[reference_], frames_[members[k]], o_, true);
            if (o_.progress) o_.progress->advance();
        });
    }

    /// Frames that did not come onto the reference, through those that did.
    void through_others() {
        std::vector<std::size_t> lost;
        for (std::size_t i = 0; i < frames_.size(); ++i)
            if (!out_.frames[i] && frames_[i].stars->size() >= 3) lost.push_back(i);
        since_.assign(frames_.size(), 0);
        bool any = false;
        for (bool more = true; more && !lost.empty();) {
            std::vector<Outcome> found(lost.size());
            workers_.for_each(lost.size(), [&](std::size_t k) { found[k] = through_neighbours(lost[k]); });
            more = false;
            std::vector<std::size_t> still;
            for (std::size_t k = 0; k < lost.size(); ++k) {
                if (!found[k]) {
                    still.push_back(lost[k]);
                    continue;
                }
                out_.frames[lost[k]] = std::move(found[k]);
                since_[lost[k]] = round_ + 1;
                more = any = true;
            }
            lost = std::move(still);
            ++round_;
        }
        if (any) adjust_all();
    }

    Outcome through_neighbours(std::size_t i) const {
        std::vector<std::size_t> near;
        for (std::size_t k = 0; k < frames_.size(); ++k)
            if (k != reference_ && out_.frames[k] && since_[k] == round_) near.push_back(k); // others were tried
        std::stable_sort(near.begin(), near.end(), [&](std::size_t a, std::size_t b) {
            return std::abs(frames_[a].time - frames_[i].time) < std::abs(frames_[b].time - frames_[i].time);
        });
        constexpr std::size_t kMost = 4;
        if (near.size() > kMost) near.resize(kMost);
        for (const std::size_t k : near) {
            Outcome link = align_frame(frames_[k], frames_[i], o_, true);
            if (!link) continue;
            Registration& r = *link.result;
            const Transform &first = out_.frames[k]->to_frame, second = r.to_frame;
            if (!same(first.lens(), second.canvas_lens())) continue; // one of them was found without the rig's lens
            r.to_frame =
                Transform(product(second.projective(), first.projective()), second.lens(), first.canvas_lens());
            r.way = fmt::format("through {} ({})", frames_[k].name, out_.frames[i].text);
            r.matches.clear(); // they are with another frame
            return link;
        }
        return out_.frames[i];
    }

    /// Whether a frame was found with the lens of its rig, not without any.
    bool has_its_lens(std::size_t i) const {
        const RigOptics* optics = optics_of(o_, frames_[i].rig);
        return i == reference_ || (optics && optics->lens != nullptr) == (out_.frames[i]->to_frame.lens() != nullptr);
    }

    /// All frames at once, and their lenses: stars that several show, whether the reference does or not.
    void adjust_all() {
        Adjustment a;
        std::map<std::string, int> glass;
        a.lenses.clear();
        std::vector<std::size_t> members;
        const Normal grid = Normal::of(frames_[reference_].width, frames_[reference_].height);
        for (std::size_t i = 0; i < frames_.size(); ++i) {
            if (!out_.frames[i] || !has_its_lens(i)) continue;
            const Normal normal = Normal::of(frames_[i].width, frames_[i].height);
            const auto [it, fresh] = glass.emplace(frames_[i].rig, static_cast<int>(a.lenses.size()));
            if (fresh) {
                const RigOptics* optics = optics_of(o_, frames_[i].rig);
                a.lenses.push_back({numbers_of(optics ? optics->lens.get() : nullptr, normal),
                                    optics && optics->lens ? optics->model.optics : Optics::none});
            }
            Adjustment::Frame f;
            f.normal = normal;
            f.glass = it->second;
            f.fixed = i == reference_;
            // A way through others may have a perspective that its last step has not.
            const auto& matrix = out_.frames[i]->to_frame.projective();
            f.mapping = matrix[6] != 0 || matrix[7] != 0 ? Mapping::projective : out_.frames[i]->model.mapping;
            f.map = normal_matrix(out_.frames[i]->to_frame.projective(), grid, normal);
            a.frames.push_back(f);
            members.push_back(i);
        }
        std::vector<const std::vector<Star>*> lists;
        for (const std::size_t i : members)
            lists.push_back(frames_[i].stars);
        constexpr double kNear = 2; // pixels of the reference: what errors along a chain may do
        join_sightings(
            a, lists, static_cast<std::size_t>(std::find(members.begin(), members.end(), reference_) - members.begin()),
            kNear / grid.radius);
        if (!adjust(a).hindrance.empty()) return;
        std::vector<std::shared_ptr<const Lens>> lenses;
        for (const auto& [rig, k] : glass) {
            const auto first = static_cast<std::size_t>(
                std::find_if(members.begin(), members.end(), [&](std::size_t i) { return frames_[i].rig == rig; }) -
                members.begin());
            lenses.resize(a.lenses.size());
            lenses[static_cast<std::size_t>(k)] =
                lens_of(a.lenses[static_cast<std::size_t>(k)].numbers, a.frames[first].normal);
        }
        const auto canvas_lens = lenses[static_cast<std::size_t>(glass.at(frames_[reference_].rig))];
        const std::vector<SightingAccount> accounts = account_of(a);
        for (std::size_t f = 0; f < members.size(); ++f) {
            Registration& r = *out_.frames[members[f]].result;
            if (members[f] == reference_ || accounts[f].stars == 0) continue;
            const auto& frame = a.frames[f];
            r.to_frame = Transform(pixel_matrix(frame.map, grid, frame.normal),
                                   lenses[static_cast<std::size_t>(frame.glass)], canvas_lens);
            r.matched = accounts[f].stars;
            r.rms = accounts[f].rms;
            r.expected = accounts[f].expected;
        }
    }

    const std::vector<FrameToAlign>& frames_;
    std::size_t reference_;
    AlignOptions o_; ///< with the optics that become known
    const Workers& workers_;
    std::vector<int> since_; ///< round of the search through others from which on a frame can lead others
    int round_ = 0;
    Alignment out_;
};

} // namespace

Outcome align_frame(const FrameToAlign& reference, const FrameToAlign& frame, const AlignOptions& o) {
    return align_frame(reference, frame, o, true);
}

Alignment align_frames(const std::vector<FrameToAlign>& frames, std::size_t reference, const AlignOptions& options,
                       const Workers& workers) {
    if (reference >= frames.size()) throw UsageError("the reference is none of the frames", {}, {});
    return Aligner(frames, reference, options, workers).run();
}

} // namespace kasane
