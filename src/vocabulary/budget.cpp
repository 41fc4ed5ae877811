// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include <herberge/budget.hpp>

namespace herberge {

namespace {
thread_local Budget* current = nullptr;
/// The clock is asked once in so many counts.
constexpr std::uint64_t counts_per_look = 256;
}  // namespace

std::string_view cost_name(Cost cost) {
    static constexpr std::string_view names[] = {"bytes read", "bytes unpacked", "steps", "bytes kept", "time"};
    return names[static_cast<std::size_t>(cost)];
}

Budget::Budget(const BudgetLimits& limits)
    : most_{limits.read, limits.unpacked, limits.steps, limits.kept, static_cast<std::uint64_t>(limits.time.count())},
      begun_(std::chrono::steady_clock::now()) {}

bool Budget::spend(Cost cost, std::uint64_t amount) noexcept {
    const auto at = static_cast<std::size_t>(cost);
    const auto run_out = [&](Cost what) {
        int none = -1;
        first_.compare_exchange_strong(none, static_cast<int>(what));
        return false;
    };
    if (first_.load(std::memory_order_relaxed) >= 0) return false;
    const std::uint64_t before = used_[at].fetch_add(amount, std::memory_order_relaxed);
    if (amount > most_[at] || before > most_[at] - amount) return run_out(cost);
    thread_local std::uint64_t counts = 0;
    if (++counts % counts_per_look != 0) return true;
    const auto taken = std::chrono::duration_cast<std::chrono::milliseconds>(std::chrono::steady_clock::now() - begun_);
    const auto time = static_cast<std::uint64_t>(taken.count());
    used_[static_cast<std::size_t>(Cost::Time)].store(time, std::memory_order_relaxed);
    return time <= most_[static_cast<std::size_t>(Cost::Time)] || run_out(Cost::Time);
}

std::optional<Cost> Budget::spent() const noexcept {
    const int first = first_.load(std::memory_order_relaxed);
    return first < 0 ? std::nullopt : std::optional(static_cast<Cost>(first));
}

std::uint64_t Budget::used(Cost cost) const noexcept {
    return used_[static_cast<std::size_t>(cost)].load(std::memory_order_relaxed);
}

BudgetScope::BudgetScope(Budget& budget) noexcept : before_(current) { current = &budget; }
BudgetScope::~BudgetScope() { current = before_; }

Budget* current_budget() noexcept { return current; }

Result<void> charge(Cost cost, std::uint64_t amount, const std::string& place) {
    if (current == nullptr || current->spend(cost, amount)) return {};
    return fail(ErrorKind::Exhausted,
                fmt::format("what this walk may cost is used up ({})", cost_name(*current->spent())), place);
}

}  // namespace herberge
