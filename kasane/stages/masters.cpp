#include <kasane/stages/masters.hpp>

#include <kasane/ledger/record_json.hpp>
#include <kasane/stages/cameras.hpp>
#include <kasane/stages/master_build.hpp>
#include <kasane/stages/master_file.hpp>
#include <kasane/stages/results.hpp>

#include <kasane/base/error.hpp>

#include <algorithm>
#include <fmt/format.h>
#include <map>
#include <mutex>

namespace fs = std::filesystem;

namespace kasane {

namespace {

/// The name under which the ledger knows a master.
std::string master_entry(const MasterPlan& plan) {
    return "masters/" + plan.name + ".fits";
}

} // namespace

Basis master_basis(const Session& s, const MasterPlan& plan) {
    using Kind = Provenance::Input::Kind;
    Provenance planned;
    Provenance::Step& gather = planned.step("gather");
    gather.set("role", std::string(role_name(plan.role))).set("name", plan.name);
    Key metadata("frames of a master");
    for (const std::size_t i : plan.members) {
        const Exposure& e = s.exposures[i];
        gather.inputs.push_back({Kind::exposure, e.identity, e.path, {}});
        if (e.turn) gather.set("turn of " + e.identity, value_text(e, Field::turn));
        metadata.add(s.metadata_key(i));
    }
    gather.set("exposures", metadata.result());
    if (plan.offset) {
        const MasterPlan& offset = s.pairing.masters[*plan.offset];
        planned.step("offset").inputs.push_back({Kind::master, master_basis(s, offset).key(), offset.name, {}});
    }
    if (plan.offset_level) planned.step("offset").set("offset_level", fmt::format("{:.17g}", *plan.offset_level));
    return Basis("master", std::move(planned));
}

std::string effective_key(const std::string& key, const MasterReport& report) {
    return report.unread.empty() ? key : Key("master that lacks files").add(key, report.unread).result();
}

namespace {

/// What others need first.
std::vector<std::size_t> in_order(const Pairing& pairing, const std::vector<bool>& wanted) {
    std::vector<std::size_t> order;
    for (const bool flats : {false, true})
        for (std::size_t i = 0; i < wanted.size(); ++i)
            if (wanted[i] && (pairing.masters[i].role == Role::flat) == flats) order.push_back(i);
    return order;
}

} // namespace

std::vector<std::size_t> all_masters(const Pairing& pairing) {
    return in_order(pairing, std::vector<bool>(pairing.masters.size(), true));
}

std::vector<std::size_t> needed_masters(const Pairing& pairing) {
    const auto& plans = pairing.masters;
    std::vector<bool> needed(plans.size(), false);
    for (const StackPlan& stack : pairing.stacks)
        for (const LightPlan& l : stack.lights)
            for (const auto& m : {l.dark, l.bias, l.second_dark, l.flat})
                if (m) needed[*m] = true;
    for (std::size_t i = 0; i < plans.size(); ++i)
        if (needed[i] && plans[i].offset) needed[*plans[i].offset] = true;
    return in_order(pairing, needed);
}

std::optional<MasterReport> finished_master(const Session& s, const MasterPlan& plan, const std::string& key) {
    const auto body = s.ledger.fact(key);
    const fs::path file = master_file(s, plan, key);
    std::error_code failed;
    if (!fs::exists(file, failed)) return std::nullopt;
    if (!body) {
        auto found = from_library(s, plan, key, file);
        if (found) {
            remember_intact(s, file);
            s.ledger.set_fact(key, json_text({{"report", *found}}));
            s.ledger.set_choice("file/" + master_entry(plan), key);
        }
        return found;
    }
    try {
        auto report = nlohmann::json::parse(*body).at("report").get<MasterReport>();
        const auto current = s.ledger.choice("file/" + master_entry(plan));
        if (!current || *current != key || !is_intact(s, file) || s.any_can_be_read(report.unread)) return std::nullopt;
        report.reused = true;
        report.members.clear(); // files may have moved since
        std::map<std::string, std::string> now;
        for (const std::size_t i : plan.members) {
            report.members.push_back(s.exposures[i].path);
            now[s.exposures[i].identity] = s.exposures[i].path;
        }
        report.made.rename_inputs([&](const std::string& identity) { return now[identity]; });
        return report;
    } catch (const nlohmann::json::exception&) {
        return std::nullopt;
    }
}

std::optional<std::string> failed_master(const Session& s, const std::string& key) {
    const auto body = s.ledger.fact(key);
    if (!body) return std::nullopt;
    const auto json = nlohmann::json::parse(*body, nullptr, false);
    if (!json.is_object() || !json.contains("failed")) return std::nullopt;
    try {
        if (s.any_can_be_read(json.at("unread").get<std::vector<std::string>>())) return std::nullopt;
        return json.at("failed").get<std::string>();
    } catch (const nlohmann::json::exception&) {
        return std::nullopt;
    }
}

namespace {

/// A master is held in memory once. Throws UnfitError.
void require_room(const Session& s, std::size_t exposure) {
    const Exposure& e = s.exposures[exposure];
    const std::uint64_t bytes = static_cast<std::uint64_t>(e.width) * static_cast<std::uint64_t>(e.height) *
                                static_cast<std::uint64_t>(e.planes) * sizeof(float);
    if (bytes <= s.context.memory.for_buffers()) return;
    throw UnfitError(fmt::format("is {} x {} pixels: a master of that size needs {:.1f} GB of memory, the budget is "
                                 "{:.1f} GB",
                                 e.width, e.height, 1e-9 * static_cast<double>(bytes),
                                 1e-9 * static_cast<double>(s.context.memory.bytes)),
                     s.path_of(exposure), "Give more with --memory, or leave it out");
}

/// A master on its way: what is known of it, and what became of it.
struct MasterWork {
    std::size_t at; ///< among the plans
    std::optional<Basis> basis{};
    fs::path file{};
    std::optional<ReadyMaster> ready{};
    std::optional<FileFailure> failure{}; ///< why it could not be made; unfit: it would not be another time either
};

/// Finds a master, or what it is to be made from.
void look_up(Session& s, MasterWork& work) {
    const MasterPlan& plan = s.pairing.masters[work.at];
    if (plan.existing) {
        work.ready = adopt(s, plan);
        return;
    }
    work.basis = master_basis(s, plan);
    const std::string key = work.basis->key();
    work.file = master_file(s, plan, key);
    if (auto report = finished_master(s, plan, key)) {
        work.ready = {effective_key(key, *report), work.file, std::move(*report)};
        return;
    }
    if (const auto why = failed_master(s, key)) throw DataError(*why, {}, "Mend the files, or leave them out");
    require_room(s, plan.members.front());
}

/// What is remembered of a master that was made.
void remember_made(Session& s, const MasterWork& work) {
    const std::string name = master_entry(s.pairing.masters[work.at]), key = work.basis->key();
    s.ledger.set_choice("file/" + name, key); // first: never is a file intact under the name of what it was before
    remember_intact(s, work.file);
    s.ledger.set_fact(key, json_text({{"report", work.ready->report}}));
    s.ledger.set_choice("basis/" + name, work.basis->text());
}

/// What is remembered of one that could not be made.
void remember_failed(Session& s, const MasterWork& work) {
    std::vector<std::string> unread;
    for (const std::size_t i : s.pairing.masters[work.at].members)
        if (s.unread.count(s.exposures[i].path)) unread.push_back(s.exposures[i].path);
    // A fault in reading something else, its offset say, may pass: then the next run simply tries again.
    if (work.failure->unfit)
        s.ledger.set_fact(work.basis->key(), json_text({{"failed", work.failure->what_failed}, {"unread", unread}}));
}

/// Does what finds or makes a master; nothing if it went well. Errors of places that are written to pass through.
template <class F>
std::optional<FileFailure> failure_of(F&& f) {
    try {
        return attempt(f);
    } catch (const DataError& e) {
        return FileFailure{e.file(), e.what_failed(), e.remedy(), true};
    }
}

/// As many masters at once as the memory holds: while one is written another is read and combined.
int masters_at_once(const Session& s, const std::vector<MasterWork*>& works) {
    std::uint64_t largest = 1;
    for (const MasterWork* work : works) {
        const Exposure& e = s.exposures[s.pairing.masters[work->at].members.front()];
        constexpr std::uint64_t kHeld = 4; // itself, and a share for what is combined and drawn
        largest = std::max(largest, kHeld * static_cast<std::uint64_t>(e.width) * static_cast<std::uint64_t>(e.height) *
                                        static_cast<std::uint64_t>(e.planes) * sizeof(float));
    }
    return s.context.memory.fitting(largest, s.context.workers.threads());
}

/// The stage of the masters as it is told of: from the first on that is to be made.
class MastersStage {
public:
    MastersStage(Progress& progress, std::int64_t units) : progress_(progress), units_(units) {}
    void found(std::int64_t units) {
        if (begun_)
            progress_.advance(units);
        else
            found_ += units;
    }
    void begin() {
        if (begun_) return;
        begun_ = true;
        progress_.begin("masters", units_);
        if (found_ > 0) progress_.advance(found_);
    }
    void end() {
        if (begun_) progress_.end();
    }

private:
    Progress& progress_;
    std::int64_t units_, found_ = 0;
    bool begun_ = false;
};

/// Finds or makes masters of which none needs another.
void make_ready(Session& s, std::vector<MasterWork>& works, MastersStage& stage) {
    std::vector<MasterWork*> todo;
    for (MasterWork& work : works) {
        s.context.workers.cancel().check();
        work.failure = failure_of([&] { look_up(s, work); });
        if (!work.failure && !work.ready)
            todo.push_back(&work);
        else
            stage.found(master_units(s, s.pairing.masters[work.at]));
    }
    if (todo.empty()) return;
    stage.begin();
    fs::create_directories(s.masters_folder());
    std::mutex remembering;
    s.context.workers.for_each(
        todo.size(),
        [&](std::size_t k) {
            MasterWork& work = *todo[k];
            std::vector<std::string> unread;
            work.failure = failure_of([&] {
                work.ready = build_ready_master(s, s.pairing.masters[work.at], *work.basis, work.file, unread);
            });
            const std::lock_guard lock(remembering); // at once: a run that is cut off goes on from there
            s.unread.insert(unread.begin(), unread.end());
            if (work.failure) {
                remember_failed(s, work);
            } else {
                remember_made(s, work);
                work.ready->key = effective_key(work.basis->key(), work.ready->report);
            }
        },
        masters_at_once(s, todo));
}

/// What a master means for all that follows.
void tell(Session& s, MasterWork& work) {
    const MasterPlan& plan = s.pairing.masters[work.at];
    if (work.failure) {
        const FileFailure& why = *work.failure;
        s.report.findings.push_back({Level::warning,
                                     "master-failed",
                                     {why.file.string()},
                                     fmt::format("master {} was not made: {}", plan.name, why.what_failed),
                                     why.remedy});
        // What is chosen without it is chosen anew once its file can be read.
        if (!why.unfit) s.unread.insert(why.file.generic_string());
        return;
    }
    const MasterReport& made = work.ready->report;
    for (const auto& [path, why] : made.left_out)
        s.set_aside(path, why, fmt::format("{} was made without it", plan.name));
    if (!made.doubts.empty())
        s.report.findings.push_back({Level::warning,
                                     "master-doubtful",
                                     {made.file},
                                     fmt::format("master {}: {}", made.name, fmt::join(made.doubts, "; ")),
                                     "Look at its frames, or take them again"});
    s.report.masters.push_back(made);
    s.masters[work.at] = std::move(work.ready);
}

} // namespace

void make_masters(Session& s) {
    make_masters(s, needed_masters(s.pairing));
}

void make_masters(Session& s, const std::vector<std::size_t>& order) {
    const auto& plans = s.pairing.masters;
    s.masters.assign(plans.size(), std::nullopt);
    std::int64_t units = 0;
    for (const std::size_t i : order)
        units += master_units(s, plans[i]);
    MastersStage stage(s.context.progress, units);
    for (auto from = order.begin(); from != order.end();) {
        const bool flats = plans[*from].role == Role::flat; // they need the others
        const auto to = std::find_if(from, order.end(), [&](auto i) { return (plans[i].role == Role::flat) != flats; });
        std::vector<MasterWork> works;
        for (; from != to; ++from)
            works.push_back({*from});
        make_ready(s, works, stage);
        for (MasterWork& work : works)
            tell(s, work);
    }
    stage.end();
    settle_cameras(s);
}

} // namespace kasane
