// SPDX-License-Identifier: MIT
#include <herberge/rehearsal.hpp>

#include "rehearsal/pc.hpp"

namespace herberge {

std::string_view rehearsal_end_id(RehearsalEnd end) {
    switch (end) {
        case RehearsalEnd::KernelEntered: return "kernel-entered";
        case RehearsalEnd::KernelRead: return "kernel-read";
        case RehearsalEnd::UntilReached: return "until-reached";
        case RehearsalEnd::WaitsForKey: return "waits-for-key";
        case RehearsalEnd::Halted: return "halted";
        case RehearsalEnd::Int18: return "int-18";
        case RehearsalEnd::Int19: return "int-19";
        case RehearsalEnd::EmptyMemory: return "empty-memory";
        case RehearsalEnd::Fault: return "fault";
        case RehearsalEnd::Loops: return "loops";
        case RehearsalEnd::Differs: return "differs";
        case RehearsalEnd::Limit: return "limit";
        case RehearsalEnd::NotStarted: return "not-started";
    }
    return "limit";
}

std::string_view rehearsal_event_id(RehearsalEventKind kind) {
    switch (kind) {
        case RehearsalEventKind::Read: return "read";
        case RehearsalEventKind::Write: return "write";
        case RehearsalEventKind::Text: return "text";
        case RehearsalEventKind::Transfer: return "transfer";
        case RehearsalEventKind::Key: return "key";
        case RehearsalEventKind::Mode: return "mode";
        case RehearsalEventKind::End: return "end";
    }
    return "end";
}

RehearsalOptions RehearsalOptions::brief() {
    RehearsalOptions out;
    out.most_instructions = 5'000'000;
    out.idle_instructions = 100'000;
    out.most_reads = 4000;
    out.memory = std::uint64_t{32} << 20U;
    out.touched_memory = std::uint64_t{8} << 20U;
    out.stop_in_protected_mode = true;
    return out;
}

const RehearsalEvent* Rehearsal::last_transfer() const {
    const RehearsalEvent* out = nullptr;
    for (const auto& e : events)
        if (e.kind == RehearsalEventKind::Transfer) out = &e;
    return out;
}

Rehearsal rehearse(const Machine& machine, int boot_disk, const RehearsalOptions& options) {
    return rehearsal::Pc(machine, boot_disk, options, rehearsal::Places(machine, options.name_files)).run();
}

}  // namespace herberge
