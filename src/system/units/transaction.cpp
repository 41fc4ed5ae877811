// SPDX-License-Identifier: MIT
// Which jobs the start of a target makes (core/transaction.c of systemd 252).
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <algorithm>
#include <list>
#include <map>
#include <set>

#include <herberge/units.hpp>

namespace herberge {

namespace {

enum class JobType : std::uint8_t { Start, Verify, Stop };

struct Job;
struct Link {
    Job* from;
    Job* to;
    bool matters, conflicts;
};

struct Job {
    const Unit* unit = nullptr;
    JobType type = JobType::Start;
    bool matters = false;  ///< to the target
    Job* because = nullptr;
    UnitTie by = UnitTie::Wants;
};

/// What runs already when the first job is made.
bool is_active(const Unit& unit) {
    return unit.name == "-.mount" || unit.name == "-.slice" || unit.name == "system.slice" || unit.name == "init.scope";
}

class Transaction {
public:
    explicit Transaction(UnitStore& units) : units_(units) {}

    StartPlan run(const std::string& target) {
        out_.target = target;
        const Unit& unit = units_.load(target);
        if (!start(unit, JobType::Start, nullptr, true, false, UnitTie::Requires, 0)) {
            out_.refused_for_missing = missing_;
            out_.refused =
                make_finding(Code::ServicesTargetRefused,
                             fmt::format("systemd cannot start {}: {}", target, fmt::join(refusal_, ", ")),
                             refusal_evidence_, "[!!!!!!] Failed to start default target.\nFreezing execution.");
            return std::move(out_);
        }
        mark();
        drop_redundant();
        while (break_cycles()) {
        }
        if (out_.refused) return std::move(out_);
        merge();
        if (out_.refused) return std::move(out_);
        drop_redundant();
        order();
        return std::move(out_);
    }

private:
    [[nodiscard]] Job* job_of(const Unit& unit, JobType type) {
        for (auto& job : jobs_)
            if (job.unit == &unit && job.type == type) return &job;
        return nullptr;
    }

    /// bus_unit_validate_load_state; true: it may be started.
    bool loads(const Unit& unit) {
        if (unit.load == UnitLoad::Loaded) return true;
        refusal_.clear();
        refusal_evidence_.clear();
        const char* how = unit.load == UnitLoad::NotFound ? "is not there"
                          : unit.load == UnitLoad::Masked ? "is masked"
                                                          : "cannot be loaded";
        refusal_.push_back(fmt::format("{} {}", unit.name, how));
        missing_ = unit.load == UnitLoad::NotFound || unit.load == UnitLoad::Unreadable;
        if (unit.problem) refusal_evidence_ = unit.problem->evidence;
        else refusal_evidence_.push_back(evidence_place(unit.name, "a unit's file", "none"));
        return false;
    }

    /// transaction_add_job_and_dependencies; false: it cannot be made. What it made before stays.
    bool start(const Unit& unit, JobType type, Job* by, bool matters, bool conflicts, UnitTie tie, int depth) {
        constexpr int most_depth = 400;
        constexpr std::size_t most_jobs = 20'000;
        if (depth > most_depth || jobs_.size() > most_jobs) return true;
        if (type != JobType::Stop && !loads(unit)) {
            if (by != nullptr) {
                refusal_.front() += fmt::format(", which {} demands", by->unit->name);
                for (const auto& one : by->unit->ties)
                    if (one.unit == unit.name && one.tie == tie) refusal_evidence_.push_back(one.said);
            }
            return false;
        }
        Job* job = job_of(unit, type);
        const bool is_new = job == nullptr;
        if (is_new) {
            jobs_.push_back({&unit, type, false, by, tie});
            job = &jobs_.back();
        }
        if (by != nullptr) links_.push_back({by, job, matters, conflicts});
        else anchor_ = job;
        if (!is_new) return true;
        if (type == JobType::Start) return pull_in(*job, depth);
        if (type == JobType::Stop) {
            // What hangs on it is stopped, too.
            const auto ties = unit.ties;
            for (const auto& one : ties)
                if (one.tie == UnitTie::RequiredBy || one.tie == UnitTie::BoundBy || one.tie == UnitTie::ConsistsOf)
                    if (const Unit* other = units_.find(one.unit))
                        (void)start(*other, JobType::Stop, job, true, false, one.tie, depth + 1);
        }
        return true;
    }

    bool pull_in(Job& job, int depth) {
        struct Step {
            std::vector<UnitTie> ties;
            JobType type;
            bool matters, conflicts;
        };
        static const Step steps[] = {{{UnitTie::Requires, UnitTie::BindsTo}, JobType::Start, true, false},
                                     {{UnitTie::Wants, UnitTie::Upholds}, JobType::Start, false, false},
                                     {{UnitTie::Requisite}, JobType::Verify, true, false},
                                     {{UnitTie::Conflicts}, JobType::Stop, true, true},
                                     {{UnitTie::ConflictedBy}, JobType::Stop, false, false}};
        for (const auto& step : steps)
            for (const auto& one : job.unit->ties) {
                if (std::ranges::find(step.ties, one.tie) == step.ties.end()) continue;
                const Unit* other = units_.find(one.unit);
                if (other == nullptr) continue;
                if (!start(*other, step.type, &job, step.matters, step.conflicts, one.tie, depth + 1) && step.matters)
                    return false;
            }
        return true;
    }

    void mark() {
        std::vector<Job*> todo = {anchor_};
        anchor_->matters = true;
        while (!todo.empty()) {
            Job* job = todo.back();
            todo.pop_back();
            for (const auto& link : links_)
                if (link.from == job && link.matters && !link.to->matters) {
                    link.to->matters = true;
                    todo.push_back(link.to);
                }
        }
    }

    [[nodiscard]] std::vector<Job*> all_of(const Unit& unit) {
        std::vector<Job*> out;
        for (auto& job : jobs_)
            if (job.unit == &unit) out.push_back(&job);
        return out;
    }

    static bool is_redundant(const Job& job) { return (job.type == JobType::Stop) != is_active(*job.unit); }

    void drop_redundant() {
        std::set<const Unit*> useless;
        for (const auto& job : jobs_) useless.insert(job.unit);
        for (const auto& job : jobs_)
            if (&job == anchor_ || !is_redundant(job)) useless.erase(job.unit);
        for (const Unit* unit : useless)
            for (Job* job : all_of(*unit)) remove(job, false);
    }

    void remove(Job* job, bool with_those_that_need_it) {
        std::vector<Job*> needing;
        for (const auto& link : links_)
            if (link.to == job && link.matters) needing.push_back(link.from);
        std::erase_if(links_, [&](const Link& link) { return link.from == job || link.to == job; });
        for (auto& other : jobs_)
            if (other.because == job) other.because = job->because == &other ? nullptr : job->because;
        std::erase_if(jobs_, [&](const Job& one) { return &one == job; });
        if (!with_those_that_need_it) return;
        for (Job* one : needing)
            if (std::ranges::any_of(jobs_, [&](const Job& left) { return &left == one; })) remove(one, true);
    }

    /// The jobs that must end before this one's may begin, as job_compare() orders them.
    [[nodiscard]] std::vector<Job*> earlier(const Job& job, const std::map<std::string_view, Job*>& first) const {
        std::vector<Job*> out;
        for (const auto& one : job.unit->ties) {
            if (one.tie != UnitTie::After && one.tie != UnitTie::Before) continue;
            const auto found = first.find(one.unit);
            if (found == first.end()) continue;
            const bool stops = job.type == JobType::Stop, other_stops = found->second->type == JobType::Stop;
            // A stop goes before every start; of two stops, the later started goes first.
            const bool other_first = other_stops && !stops   ? true
                                     : stops && !other_stops ? false
                                     : stops                 ? one.tie == UnitTie::Before
                                                             : one.tie == UnitTie::After;
            if (other_first) out.push_back(found->second);
        }
        return out;
    }

    [[nodiscard]] std::map<std::string_view, Job*> first_jobs() {
        std::map<std::string_view, Job*> out;
        for (auto& job : jobs_) out.insert_or_assign(job.unit->name, &job);  // the newest stands first in its list
        return out;
    }

    /// True: one was found and broken, and there may be more.
    bool break_cycles() {
        const auto first = first_jobs();
        std::map<const Job*, int> state;  // 1: on the way, 2: done
        std::vector<Job*> way;
        std::vector<std::pair<Job*, std::size_t>> stack;
        std::map<const Job*, std::vector<Job*>> edges;
        for (const auto& [name, job] : first) edges[job] = earlier(*job, first);
        for (const auto& [name, begin] : first) {
            if (state[begin] != 0) continue;
            stack = {{begin, 0}};
            state[begin] = 1;
            while (!stack.empty()) {
                auto& [job, next] = stack.back();
                if (next == edges[job].size()) {
                    state[job] = 2;
                    stack.pop_back();
                    continue;
                }
                Job* other = edges[job][next++];
                if (state[other] == 0) {
                    state[other] = 1;
                    stack.emplace_back(other, 0);
                } else if (state[other] == 1) {
                    std::vector<Job*> ring;
                    for (auto it = stack.rbegin(); it != stack.rend(); ++it) {
                        ring.push_back(it->first);
                        if (it->first == other) break;
                    }
                    std::ranges::reverse(ring);
                    return give_up_one(ring);
                }
            }
        }
        return false;
    }

    bool give_up_one(const std::vector<Job*>& ring) {
        constexpr std::size_t most = 50;
        OrderingCycle cycle;
        Job* victim = nullptr;
        for (Job* job : ring) {
            cycle.units.push_back(job->unit->name);
            const auto same = all_of(*job->unit);
            if (victim == nullptr && std::ranges::none_of(same, [](const Job* one) { return one->matters; }))
                victim = job;
        }
        std::vector<Evidence> evidence;
        for (std::size_t i = 0; i < ring.size(); ++i)
            for (const auto& one : ring[i]->unit->ties)
                if (one.tie == UnitTie::After && one.unit == ring[(i + 1) % ring.size()]->unit->name)
                    evidence.push_back(one.said);
        auto names = cycle.units;
        names.push_back(names.front());
        if (victim == nullptr) {
            out_.refused = make_finding(
                Code::ServicesTargetRefused,
                fmt::format(
                    "systemd cannot start {}: its units wait for one another in a ring that it may not break ({})",
                    out_.target, fmt::join(names, " after ")),
                std::move(evidence),
                "Unable to break cycle\n[!!!!!!] Failed to start default target.\nFreezing execution.");
            out_.cycles.push_back(std::move(cycle));
            return false;
        }
        cycle.dropped = victim->unit->name;
        if (out_.cycles.size() >= most) return false;
        out_.findings.push_back(make_finding(
            Code::ServicesOrderCycle,
            fmt::format(
                "units wait for one another in a ring ({}): systemd gives up one that the target does not require, "
                "such as {}",
                fmt::join(names, " after "), cycle.dropped),
            std::move(evidence), fmt::format("Found ordering cycle on {}/start", cycle.units.front())));
        out_.cycles.push_back(std::move(cycle));
        const Unit& unit = *victim->unit;
        for (Job* job : all_of(unit)) remove(job, true);
        return true;
    }

    /// Starts and stops of one unit do not go together: one of them goes (delete_one_unmergeable_job).
    void merge() {
        // To look whether it runs, and to start it: it is started.
        for (auto verify = jobs_.begin(); verify != jobs_.end();) {
            Job* begin = verify->type == JobType::Verify ? job_of(*verify->unit, JobType::Start) : nullptr;
            if (begin == nullptr) {
                ++verify;
                continue;
            }
            for (auto& link : links_) {
                if (link.to == &*verify) link.to = begin;
                if (link.from == &*verify) link.from = begin;
            }
            begin->matters = begin->matters || verify->matters;
            if (anchor_ == &*verify) anchor_ = begin;
            verify = jobs_.erase(verify);
        }
        for (bool again = true; again;) {
            again = false;
            for (auto& stop : jobs_) {
                if (stop.type != JobType::Stop) continue;
                Job* start = job_of(*stop.unit, JobType::Start);
                if (start == nullptr) continue;
                const bool conflicted =
                    std::ranges::any_of(links_, [&](const Link& link) { return link.to == &stop && link.conflicts; });
                if (start->matters && stop.matters) {
                    out_.refused = make_finding(
                        Code::ServicesTargetRefused,
                        fmt::format(
                            "systemd cannot start {}: it requires {}, and what else it requires conflicts with that",
                            out_.target, stop.unit->name),
                        {evidence_place(stop.unit->name)},
                        "[!!!!!!] Failed to start default target.\nFreezing execution.");
                    return;
                }
                Job* victim = start->matters ? &stop : stop.matters ? start : conflicted ? start : &stop;
                if (victim == start) out_.stopped.push_back(stop.unit->name);
                remove(victim, true);
                again = true;
                break;
            }
        }
    }

    void order() {
        const auto first = first_jobs();
        std::map<const Job*, std::size_t> waits;
        std::map<const Job*, std::vector<Job*>> later;
        std::set<std::pair<std::string_view, Job*>> ready;
        for (const auto& [name, job] : first) {
            const auto before = earlier(*job, first);
            waits[job] = before.size();
            for (Job* one : before) later[one].push_back(job);
            if (before.empty()) ready.insert({name, job});
        }
        const auto take = [&](const Job& job) {
            if (job.type != JobType::Stop)
                out_.jobs.push_back({job.unit->name, job.type == JobType::Verify,
                                     job.because != nullptr ? job.because->unit->name : std::string{}, job.by});
        };
        while (!ready.empty()) {
            Job* job = ready.begin()->second;
            ready.erase(ready.begin());
            take(*job);
            for (Job* one : later[job])
                if (--waits[one] == 0) ready.insert({one->unit->name, one});
        }
        // A ring that only appears once stops have given way is not looked for there, either.
        for (const auto& [name, job] : first)
            if (waits[job] != 0) take(*job);
    }

    UnitStore& units_;
    StartPlan out_;
    std::list<Job> jobs_;
    std::vector<Link> links_;
    Job* anchor_ = nullptr;
    std::vector<std::string> refusal_;
    std::vector<Evidence> refusal_evidence_;
    bool missing_ = false;
};

}  // namespace

StartPlan plan_start(UnitStore& units, const std::string& target) { return Transaction(units).run(target); }

std::string systemd_target(const CommandLine& arguments) {
    static constexpr std::pair<std::string_view, std::string_view> words[] = {{"emergency", "emergency.target"},
                                                                              {"-b", "emergency.target"},
                                                                              {"rescue", "rescue.target"},
                                                                              {"single", "rescue.target"},
                                                                              {"-s", "rescue.target"},
                                                                              {"s", "rescue.target"},
                                                                              {"S", "rescue.target"},
                                                                              {"1", "rescue.target"},
                                                                              {"2", "multi-user.target"},
                                                                              {"3", "multi-user.target"},
                                                                              {"4", "multi-user.target"},
                                                                              {"5", "graphical.target"}};
    std::string out = "default.target";
    for (const auto& word : arguments.words()) {
        if (word.starts_with("systemd.unit=")) out = word.substr(word.find('=') + 1);
        const auto* level = std::ranges::find(words, word, &std::pair<std::string_view, std::string_view>::first);
        if (level != std::end(words)) out = level->second;
    }
    return out;
}

StartPlan plan_boot(UnitStore& units, const std::string& target) {
    const Unit& asked = units.load(target);
    if (asked.load == UnitLoad::Loaded) return plan_start(units, target);
    auto out = plan_start(units, "rescue.target");
    const bool masked = asked.load == UnitLoad::Masked;
    auto evidence =
        asked.problem ? asked.problem->evidence : std::vector{evidence_place(target, "a unit's file", "not there")};
    out.findings.insert(out.findings.begin(),
                        make_finding(masked ? Code::ServicesTargetMasked : Code::ServicesTargetMissing,
                                     fmt::format("systemd's target {} {}: it goes into rescue mode instead", target,
                                                 masked ? "is masked" : "cannot be loaded"),
                                     std::move(evidence),
                                     fmt::format("Unit {} {}.\nFalling back to rescue.target.\nYou are in rescue mode.",
                                                 target, masked ? "is masked" : "not found")));
    return out;
}

}  // namespace herberge
