// SPDX-License-Identifier: MIT
#include <herberge/finding.hpp>

#include <algorithm>

namespace herberge {

namespace {

struct StageRow {
    Stage stage;
    std::string_view id;
    std::string_view meaning;
};

constexpr std::array<StageRow, stage_count> stage_rows = {{
    {Stage::Firmware, "firmware", "the firmware finds something to start on the disk"},
    {Stage::PartitionTable, "partition-table",
     "the table the next step needs is readable and leads to the partition needed"},
    {Stage::BootCode, "boot-code", "the first code the firmware starts is sound and may run"},
    {Stage::BootSector, "boot-sector", "the volume boot sector that the previous code starts is sound"},
    {Stage::Loader, "loader", "the loader's further parts and own files are there and sound"},
    {Stage::Configuration, "configuration", "the loader reads a configuration that leaves something to start"},
    {Stage::Entry, "entry", "the entry it would start resolves"},
    {Stage::Kernel, "kernel", "the kernel is startable"},
    {Stage::Ramdisk, "ramdisk", "the initial RAM disk is there if needed, and sound"},
    {Stage::Root, "root", "the root file system is found and mountable"},
    {Stage::Init, "init", "an init can be executed"},
    {Stage::Services, "services", "what init must start is there"},
}};

constexpr std::array<Stage, stage_count> stages = {
    Stage::Firmware, Stage::PartitionTable, Stage::BootCode, Stage::BootSector, Stage::Loader, Stage::Configuration,
    Stage::Entry,    Stage::Kernel,         Stage::Ramdisk,  Stage::Root,       Stage::Init,   Stage::Services};

constexpr FindingCode codes[] = {
#define HERBERGE_CODE(name, id, stage, severity, meaning, symptom) \
    {Code::name, id, Stage::stage, Severity::severity, meaning, symptom},
#include <herberge/codes.def>
#undef HERBERGE_CODE
};
static_assert(std::size(codes) == code_count);

}  // namespace

std::string_view stage_id(Stage stage) { return stage_rows[static_cast<std::size_t>(stage)].id; }
std::string_view stage_meaning(Stage stage) { return stage_rows[static_cast<std::size_t>(stage)].meaning; }

std::optional<Stage> stage_from_id(std::string_view id) {
    const auto found = std::ranges::find(stage_rows, id, &StageRow::id);
    return found != stage_rows.end() ? std::optional(found->stage) : std::nullopt;
}

std::span<const Stage, stage_count> all_stages() { return stages; }

std::string_view state_id(State state) {
    switch (state) {
        case State::Holds: return "holds";
        case State::Breaks: return "breaks";
        case State::Doubtful: return "doubtful";
        case State::Unknown: return "unknown";
        case State::NotReached: return "not-reached";
        case State::NotNeeded: return "not-needed";
    }
    return "unknown";
}

std::string_view severity_id(Severity severity) {
    switch (severity) {
        case Severity::Breaks: return "breaks";
        case Severity::Risk: return "risk";
        case Severity::Note: break;
    }
    return "note";
}

std::span<const FindingCode> finding_codes() { return codes; }

std::string_view code_id(Code code) { return codes[static_cast<std::size_t>(code)].id; }

std::vector<std::string_view> screens_of(Code code) {
    constexpr std::string_view between = " | ";
    std::vector<std::string_view> out;
    auto rest = codes[static_cast<std::size_t>(code)].symptom;
    while (!rest.empty()) {
        const auto end = rest.find(between);
        out.push_back(rest.substr(0, end));
        rest = end == rest.npos ? std::string_view{} : rest.substr(end + between.size());
    }
    return out;
}

bool is_such_screen(std::string_view screen, std::string_view general) {
    constexpr std::string_view differs = "…";
    while (!general.empty()) {
        const auto end = general.find(differs);
        const auto fixed = general.substr(0, end);
        const auto at = screen.find(fixed);
        if (at == screen.npos) return false;
        screen.remove_prefix(at + fixed.size());
        general = end == general.npos ? std::string_view{} : general.substr(end + differs.size());
    }
    return true;
}

Finding make_finding(Code code, std::string text, std::vector<Evidence> evidence, std::string symptom) {
    const auto& row = codes[static_cast<std::size_t>(code)];
    return {code, row.stage, row.severity, std::move(text), std::move(evidence), std::move(symptom)};
}

Claim broken(Finding finding, Stage stage) {
    finding.stage = stage;
    return broken(std::move(finding));
}

void Claim::break_with(Finding finding) {
    finding.severity = Severity::Breaks;
    if (state == State::Breaks) {
        findings.push_back(std::move(finding));
        return;
    }
    state = State::Breaks;
    text = finding.text;
    evidence = finding.evidence;
    findings.insert(findings.begin(), std::move(finding));
}

Claim broken(Finding finding) {
    finding.severity = Severity::Breaks;
    return {finding.stage, State::Breaks, finding.text, finding.evidence, {finding}};
}

Claim untold(Stage stage, std::string text, std::vector<Evidence> evidence) {
    return {stage, State::Unknown, std::move(text), std::move(evidence), {}};
}

Evidence evidence_bytes(const ByteSource& source, std::uint64_t offset, std::uint64_t length, std::string expected,
                        std::string found) {
    Evidence out;
    const auto ranges = source.locate(offset, length);
    if (!ranges.empty()) out.range = ranges.front();
    out.place = source.place();
    out.expected = std::move(expected);
    out.found = std::move(found);
    return out;
}

Evidence evidence_place(std::string place, std::string expected, std::string found) {
    return Evidence{std::nullopt, std::move(place), std::nullopt, std::move(expected), std::move(found)};
}

Evidence evidence_line(std::string place, int line, std::string expected, std::string found) {
    Evidence out = evidence_place(std::move(place), std::move(expected), std::move(found));
    if (line > 0) out.line = line;
    return out;
}

Evidence evidence_error(const Error& error) {
    return evidence_place(error.place, error.expected,
                          error.found.empty() ? error.what : error.what + " (" + error.found + ")");
}

}  // namespace herberge
