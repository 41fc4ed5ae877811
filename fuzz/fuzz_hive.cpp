// SPDX-License-Identifier: MIT
// A registry hive, and in its second half perhaps a log of it.
#include <herberge/herberge.hpp>

#include "sums.hpp"

namespace {

void visit(const herberge::Hive& hive, herberge::HiveKeyId key, int depth, int& budget) {
    if (--budget < 0 || depth > 8) return;
    (void)hive.name(key);
    if (const auto values = hive.values(key))
        for (const auto& value : *values) (void)value.texts();
    const auto keys = hive.subkeys(key);
    if (!keys) return;
    for (const auto child : *keys) {
        if (budget < 0) return;
        visit(hive, child, depth + 1, budget);
    }
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    const auto whole = herberge::memory_source({data, data + size}, "SYSTEM", 1);
    const auto log = herberge::slice(whole, size / 2, size - size / 2, "SYSTEM.LOG1");
    for (const auto& logs : {std::vector<herberge::Source>{}, std::vector<herberge::Source>{log, whole}}) {
        const auto hive = herberge::open_hive(whole, logs);
        if (!hive) continue;
        int budget = 300;
        visit(**hive, (*hive)->root(), 0, budget);
        (void)(*hive)->text_at("Select", "Current");
    }
    return 0;
}

HERBERGE_MENDING_MUTATOR(Hive, 0)
