#include <kasane/project/finish_plan.hpp>

#include <kasane/base/error.hpp>
#include <kasane/frames/panel_names.hpp>
#include <kasane/frames/words.hpp>
#include <kasane/stages/joint_stacks.hpp>

#include <algorithm>
#include <fmt/format.h>
#include <set>

namespace fs = std::filesystem;

namespace kasane {

namespace {

class Planner {
public:
    /// `strict`: files are named, and belong together.
    Planner(const FinishOptions& o, bool strict, std::vector<std::string>& notes)
        : strict_(strict || !o.palette.empty()), o_(o), notes_(notes) {}

    /// Of master lights of one target.
    std::vector<FinishPlan> plan(const std::vector<const MasterFile*>& group) {
        std::vector<FinishPlan> out;
        std::vector<const MasterFile*> mono;
        for (const MasterFile* s : group) {
            if (s->planes == 3)
                out.push_back({s->name, {s}, own_colours(), nullptr});
            else
                mono.push_back(s);
        }
        std::set<const MasterFile*> used;
        if (o_.combine && !mono.empty()) in_colour(mono, used, out);
        for (const MasterFile* s : mono)
            if (!used.count(s)) out.push_back({s->name, {s}, {}, nullptr});
        return out;
    }

private:
    static Palette own_colours() { return {{{{{"R", 1}}, {{"G", 1}}, {{"B", 1}}}}}; }

    /// The one of a filter; null where there is none. Several are an error where files or filters are named, else a
    /// reason to leave it.
    const MasterFile* of_filter(const std::vector<const MasterFile*>& mono, const std::string& name,
                                std::string& why) const {
        std::vector<const MasterFile*> found;
        for (const MasterFile* s : mono)
            if (s->filter == name) found.push_back(s);
        if (found.size() < 2) return found.empty() ? nullptr : found.front();
        why = fmt::format("there are several master lights of {}", name);
        constexpr const char* kRemedy = "Name the files that belong together: kasane finish R.fits G.fits B.fits";
        if (strict_) throw UsageError(why, found[1]->file, kRemedy);
        return nullptr;
    }

    void in_colour(const std::vector<const MasterFile*>& mono, std::set<const MasterFile*>& used,
                   std::vector<FinishPlan>& out) {
        FinishPlan plan;
        plan.palette = o_.palette.empty() ? own_colours() : o_.palette;
        std::string why;
        std::vector<std::string> missing;
        for (Palette::Sum& sum : plan.palette.colours)
            for (auto& [name, factor] : sum) {
                name = fold_filter(name);
                const MasterFile* s = of_filter(mono, name, why);
                if (!s)
                    missing.push_back(name);
                else if (std::find(plan.sources.begin(), plan.sources.end(), s) == plan.sources.end())
                    plan.sources.push_back(s);
            }
        if (!missing.empty() && why.empty()) {
            std::vector<std::string> there;
            for (const MasterFile* s : mono)
                there.push_back(s->filter.empty() ? s->file.filename().string() : s->filter);
            why =
                fmt::format("no master light of {}; there are {}", fmt::join(missing, " and "), fmt::join(there, ", "));
            if (!o_.palette.empty())
                throw UsageError("the palette cannot be made: " + why, {}, "Name filters that are there");
            why += ". A palette says which filters make red, green and blue: --palette \"Ha; 0.5 Ha + 0.5 OIII; OIII\"";
        }
        for (const MasterFile* s : plan.sources)
            if (why.empty() && !on_one_canvas(*s, *plan.sources.front())) {
                why = fmt::format("{} is {} x {} pixels, {} {} x {}: they do not lie on one canvas",
                                  s->file.filename().string(), s->width, s->height,
                                  plan.sources.front()->file.filename().string(), plan.sources.front()->width,
                                  plan.sources.front()->height);
                if (strict_)
                    throw UsageError(why, s->file,
                                     "Bring them onto one: kasane align A.fits B.fits --onto C.fits --write DIR");
            }
        if (!why.empty()) {
            if (mono.size() > 1) notes_.push_back("no picture in colour: " + why);
            return;
        }
        if (o_.luminance) {
            plan.luminance = of_filter(mono, "L", why);
            if (plan.luminance && !on_one_canvas(*plan.luminance, *plan.sources.front())) {
                why = plan.luminance->file.filename().string() + " lies on another canvas";
                plan.luminance = nullptr;
            }
            if (!why.empty()) notes_.push_back("L gives no brightness: " + why);
        }
        std::string name = plan.sources.front()->name;
        for (const MasterFile* s : plan.sources)
            name = common_words(name, s->name);
        if (plan.luminance) name = common_words(name, plan.luminance->name);
        if (name.empty()) name = squeezed(plan.sources.front()->target);
        plan.name = (name.empty() ? "master" : name) + "-colour";
        used.insert(plan.sources.begin(), plan.sources.end());
        if (plan.luminance) used.insert(plan.luminance);
        out.push_back(std::move(plan));
    }

    static bool on_one_canvas(const MasterFile& a, const MasterFile& b) {
        return a.width == b.width && a.height == b.height;
    }

    const bool strict_;
    const FinishOptions& o_;
    std::vector<std::string>& notes_;
};

} // namespace

std::vector<FinishPlan> plan_finish(const std::vector<const MasterFile*>& group, const FinishOptions& options,
                                    bool strict, std::vector<std::string>& notes) {
    return Planner(options, strict, notes).plan(group);
}

} // namespace kasane
