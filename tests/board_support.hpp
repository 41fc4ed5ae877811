// SPDX-License-Identifier: MIT
#pragma once

#include "support.hpp"

namespace support {

using namespace herberge;  // NOLINT: a header of tests alone

/// A machine that starts by a board's rules.
struct BoardVerdict {
    herberge::Machine machine;
    herberge::Verdict verdict;
    /// `flash`: a dump with an environment; `second`: a further disk, or raw flash; empty: there is none.
    BoardVerdict(Bytes card, const std::string& name, const Bytes& flash = {}, Bytes second = {})
        : machine(second.empty() ? machine_of(std::move(card))
                                 : machine_of_disks({std::move(card), std::move(second)})) {
        CheckOptions options;
        options.firmware = FirmwareKind::Board;
        options.board = name;
        if (!flash.empty()) options.flash = memory_source(flash, "flash.bin");
        verdict = check(machine, options);
        for (const auto& finding : verdict.findings) support::expect_screen_of_table(finding);
    }
    [[nodiscard]] const SystemVerdict& system() const { return verdict.systems.at(0); }
    [[nodiscard]] std::string stage() const {
        return system().stops_at ? std::string(stage_id(*system().stops_at)) : std::string(starts_id(system().starts));
    }
    [[nodiscard]] Code why() const {
        const auto& rung = system().at(*system().stops_at);
        return rung.findings.empty() ? Code::DiskTooSmall : rung.findings.front();
    }
    [[nodiscard]] bool has(Code code) const {
        return std::ranges::find(verdict.findings, code, &Finding::code) != verdict.findings.end();
    }
};

}  // namespace support
