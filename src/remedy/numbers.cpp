// SPDX-License-Identifier: MIT
#include <algorithm>

#include <herberge/symptom.hpp>

namespace herberge {

namespace {

constexpr KnownNumber numbers[] = {
#define HERBERGE_NUMBER(kind, value, name, meaning) {NumberKind::kind, value, name, meaning},
#include "remedy/numbers.def"
#undef HERBERGE_NUMBER
};

}  // namespace

std::string_view number_kind_name(NumberKind kind) {
    switch (kind) {
        case NumberKind::NtStatus: return "NTSTATUS";
        case NumberKind::StopCode: return "stop code";
        case NumberKind::EfiStatus: return "EFI status";
        case NumberKind::GrubLegacy: return "GRUB Legacy error";
        case NumberKind::BiosDisk: return "BIOS disk status";
        case NumberKind::LinuxErrno: return "Linux error";
    }
    return {};
}

std::span<const KnownNumber> known_numbers() { return numbers; }

const KnownNumber* find_number(NumberKind kind, std::uint64_t value) {
    const auto* found =
        std::ranges::find_if(numbers, [&](const KnownNumber& row) { return row.kind == kind && row.value == value; });
    return found != std::end(numbers) ? found : nullptr;
}

}  // namespace herberge
