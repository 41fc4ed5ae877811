// SPDX-License-Identifier: MIT
// What one walk may cost. A hostile image can ask for any amount of work; what runs out ends in "unknown".
#pragma once

#include <array>
#include <atomic>
#include <chrono>
#include <cstdint>
#include <optional>
#include <string>
#include <string_view>

#include <herberge/error.hpp>
#include <herberge/visibility.hpp>

namespace HERBERGE_PUBLIC herberge {

/// What is counted.
enum class Cost : std::uint8_t {
    Read,      ///< bytes asked of images
    Unpacked,  ///< bytes that decoders produced
    Steps,     ///< commands of scripts, instructions of rehearsed code
    Kept,      ///< bytes of decoded content kept until the walk ends
    Time,      ///< milliseconds
};
inline constexpr std::size_t cost_count = 5;
/// "bytes read" …
[[nodiscard]] std::string_view cost_name(Cost cost);

/// How much of each; defaults are far beyond what the largest sound machine needs.
struct BudgetLimits {
    std::uint64_t read = std::uint64_t{64} << 30U;
    std::uint64_t unpacked = std::uint64_t{64} << 30U;
    std::uint64_t steps = 8'000'000'000;
    std::uint64_t kept = std::uint64_t{4} << 30U;
    std::chrono::milliseconds time = std::chrono::minutes(15);
};

/// The budget of one walk, shared by everything that the walk calls: readers, decoders, interpreters, the rehearsal,
/// layers. Once one amount is used up, it stays so, and all that would cost more fails with ErrorKind::Exhausted.
/// Counting may happen from several threads.
class Budget {
public:
    explicit Budget(const BudgetLimits& limits = {});
    /// Takes `amount`; false: used up, now or before.
    bool spend(Cost cost, std::uint64_t amount) noexcept;
    /// What ran out first; none: there is some left of everything.
    [[nodiscard]] std::optional<Cost> spent() const noexcept;
    [[nodiscard]] std::uint64_t used(Cost cost) const noexcept;

private:
    std::array<std::atomic<std::uint64_t>, cost_count> used_{};
    std::array<std::uint64_t, cost_count> most_{};
    std::chrono::steady_clock::time_point begun_;
    std::atomic<int> first_{-1};
};

/// Makes `budget` the one that counts in this thread, until the scope ends; the one before counts again then. `budget`
/// must live as long as the scope.
class BudgetScope {
public:
    explicit BudgetScope(Budget& budget) noexcept;
    BudgetScope(const BudgetScope&) = delete;
    BudgetScope& operator=(const BudgetScope&) = delete;
    ~BudgetScope();

private:
    Budget* before_;
};

/// The budget that counts in this thread; null: nobody counts.
[[nodiscard]] Budget* current_budget() noexcept;
/// Takes `amount` from it. Error Exhausted; `place` names what was being done.
[[nodiscard]] Result<void> charge(Cost cost, std::uint64_t amount, const std::string& place = {});

}  // namespace herberge
