// SPDX-License-Identifier: MIT
// Static Analysis Results Interchange Format 2.1.0 (OASIS standard, 27 March 2020).
#include <fmt/format.h>
#include <openssl/evp.h>
#include <algorithm>
#include <map>
#include <set>

#include <herberge/boot_report.hpp>
#include <herberge/places.hpp>
#include <herberge/sentences.hpp>

#include "report/report_texts.hpp"
#include "vocabulary/json_text.hpp"

namespace herberge {

namespace {

using nlohmann::ordered_json;
using report::clean;

constexpr std::string_view starts_rule = "system-starts";
constexpr std::uint64_t most_inserted = std::uint64_t{64} << 10U;

/// A path as a URI reference (3.10.1; RFC 3986): everything that is not unreserved is written as %XX.
std::string uri(std::string_view path) {
    std::string out;
    for (const char c : path) {
        const bool kept = (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') ||
                          std::string_view("-._~/").find(c) != std::string_view::npos;
        if (kept) out += c;
        else out += fmt::format("%{:02X}", static_cast<std::uint8_t>(c));
    }
    return path.starts_with('/') ? "file://" + out : out;
}

std::string base64(std::span<const std::uint8_t> bytes) {
    std::string out((bytes.size() + 2) / 3 * 4 + 1, '\0');
    out.resize(static_cast<std::size_t>(
        EVP_EncodeBlock(reinterpret_cast<unsigned char*>(out.data()), bytes.data(), static_cast<int>(bytes.size()))));
    return out;
}

std::string_view level_of(Severity severity) {
    return severity == Severity::Breaks ? "error" : severity == Severity::Risk ? "warning" : "note";
}

class Sarif {
public:
    explicit Sarif(const BootReport& report) : report_(report) {
        for (const auto& disk : report.machine.disks) {
            images_[disk.number] = artifacts_.size();
            ordered_json artifact = {{"location", {{"uri", uri(disk.path)}}},
                                     {"length", disk.source->size()},
                                     {"mimeType", "application/octet-stream"}};
            for (const auto& image : report.origin.images)
                if (image.path == disk.path && !image.sha256.empty()) artifact["hashes"] = {{"sha-256", image.sha256}};
            artifacts_.push_back(std::move(artifact));
        }
    }

    ordered_json run() {
        auto results = ordered_json::array();
        for (const auto& system : report_.verdict.systems) results.push_back(system_result(system));
        for (const auto& finding : report_.verdict.findings)
            if (!told_.contains({finding.code, finding.text})) results.push_back(finding_result(finding));
        ordered_json driver = {{"name", "herberge"}, {"fullName", clean(report_.origin.made_by)}};
        driver["rules"] = rules();
        ordered_json run = {{"tool", {{"driver", std::move(driver)}}}};
        run["invocations"] =
            ordered_json::array({{{"executionSuccessful", true}, {"endTimeUtc", time_text(report_.origin.made_at)}}});
        run["artifacts"] = artifacts_;
        run["results"] = std::move(results);
        run["columnKind"] = "unicodeCodePoints";
        return {
            {"$schema", "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json"},
            {"version", "2.1.0"},
            {"runs", ordered_json::array({std::move(run)})}};
    }

private:
    /// 3.9: "2026-11-29T12:00:00Z".
    static std::string time_text(std::int64_t seconds) {
        auto text = utc_text(seconds);
        if (text.size() < 19) return "1970-01-01T00:00:00Z";
        text.resize(19);
        text[10] = 'T';
        return text + "Z";
    }

    std::size_t rule_index(std::string_view id) {
        const auto [found, fresh] = rule_indices_.emplace(std::string(id), rule_ids_.size());
        if (fresh) rule_ids_.emplace_back(id);
        return found->second;
    }

    ordered_json rules() const {
        auto out = ordered_json::array();
        for (const auto& id : rule_ids_) {
            ordered_json rule = {{"id", id}};
            const auto row = std::ranges::find(finding_codes(), id, [](const FindingCode& code) { return code.id; });
            if (row == finding_codes().end()) {
                rule["shortDescription"] = {{"text", "Every installed system starts."}};
            } else {
                rule["shortDescription"] = {{"text", clean(row->meaning)}};
                rule["defaultConfiguration"] = {{"level", level_of(row->severity)}};
                rule["properties"] = {{"stage", stage_id(row->stage)}};
            }
            out.push_back(std::move(rule));
        }
        return out;
    }

    /// A file on a volume is an artifact that lies inside its disk's image (3.24.3), where it lies on one.
    std::size_t file_artifact(const FilePlace& place) {
        const auto [found, fresh] = files_.emplace(place.text(), artifacts_.size());
        if (!fresh) return found->second;
        ordered_json artifact = {{"location", {{"uri", uri(place.path)}}}};
        if (artifact["location"]["uri"].get_ref<const std::string&>().starts_with("file://"))
            artifact["location"]["uri"] = uri(place.path).substr(7);
        artifact["description"] = {{"text", clean(place.text())}};
        if (const auto volume = report_.machine.at(place.volume); volume != nullptr && images_.contains(volume->disk))
            artifact["parentIndex"] = images_.at(volume->disk);
        artifacts_.push_back(std::move(artifact));
        return found->second;
    }

    ordered_json location(const Evidence& evidence) {
        ordered_json out;
        const auto file = file_place(evidence.place);
        if (file && (evidence.line || !evidence.range)) {
            const auto index = file_artifact(*file);
            out["physicalLocation"]["artifactLocation"] = {{"uri", artifacts_[index]["location"]["uri"]},
                                                           {"index", index}};
            if (evidence.line) out["physicalLocation"]["region"] = {{"startLine", *evidence.line}};
        } else if (evidence.range && images_.contains(evidence.range->disk)) {
            const auto index = images_.at(evidence.range->disk);
            out["physicalLocation"] = {
                {"artifactLocation", {{"uri", artifacts_[index]["location"]["uri"]}, {"index", index}}},
                {"region", {{"byteOffset", evidence.range->offset}, {"byteLength", evidence.range->length}}}};
        }
        if (!evidence.place.empty())
            out["logicalLocations"] = ordered_json::array({{{"fullyQualifiedName", clean(evidence.place)}}});
        out["message"] = {{"text", clean(evidence_text(evidence))}};
        return out;
    }

    ordered_json locations(const std::vector<Evidence>& all) {
        auto out = ordered_json::array();
        for (const auto& one : all) out.push_back(location(one));
        return out;
    }

    ordered_json system_result(const SystemVerdict& system) {
        const auto* rung = report::deciding(system);
        // What stops it is the rule where there is one, so that the same cause is the same issue everywhere.
        const bool coded = system.starts == Starts::No && rung != nullptr && !rung->findings.empty();
        const std::string rule(coded ? code_id(rung->findings.front()) : starts_rule);
        ordered_json out = {{"ruleId", rule}, {"ruleIndex", rule_index(rule)}};
        out["kind"] = system.starts == Starts::Yes ? "pass" : system.starts == Starts::No ? "fail" : "open";
        out["level"] = system.starts == Starts::No ? "error" : "none";
        out["message"] = {{"text", fmt::format("{}: {}{}", clean(system_title(system)), verdict_sentence(system),
                                               rung != nullptr ? ". " + clean(rung->text) : std::string{})}};
        out["locations"] = ordered_json::array();
        if (rung != nullptr) out["locations"] = locations(rung->evidence);
        if (coded)
            for (const auto& finding : report_.verdict.findings)
                if (finding.code == rung->findings.front() && finding.text == rung->text)
                    told_.insert({finding.code, finding.text});
        const auto* mending = report::mending_of(report_, system);
        if (mending != nullptr) add_fixes(*mending, out);
        ordered_json properties = {{"system", clean(system.name)}};
        if (system.place) properties["place"] = *system.place;
        if (system.stops_at) properties["stage"] = stage_id(*system.stops_at);
        if (!system.symptom.empty()) properties["screen"] = clean(system.symptom);
        if (mending != nullptr && mending->proposals.empty()) properties["bring"] = clean(mending->bring);
        out["properties"] = std::move(properties);
        return out;
    }

    void add_fixes(const Mending& mending, ordered_json& out) const {
        for (const auto& proposal : mending.proposals) {
            if (proposal.patch.empty() || proposal.patch.size() > most_inserted) continue;
            ordered_json fix = {{"description", {{"text", clean(proposal.title)}}}};
            std::map<int, ordered_json> changes;
            for (const auto& change : proposal.patch.changes) {
                if (!images_.contains(change.disk)) continue;
                auto& one = changes[change.disk];
                const auto index = images_.at(change.disk);
                one["artifactLocation"] = {{"uri", artifacts_[index]["location"]["uri"]}, {"index", index}};
                one["replacements"].push_back(
                    {{"deletedRegion", {{"byteOffset", change.offset}, {"byteLength", change.before.size()}}},
                     {"insertedContent", {{"binary", base64(change.after)}}}});
            }
            fix["artifactChanges"] = ordered_json::array();
            for (auto& [disk, one] : changes) fix["artifactChanges"].push_back(std::move(one));
            out["fixes"].push_back(std::move(fix));
        }
    }

    ordered_json finding_result(const Finding& finding) {
        ordered_json out = {{"ruleId", code_id(finding.code)},
                            {"ruleIndex", rule_index(code_id(finding.code))},
                            {"kind", "fail"},
                            {"level", level_of(finding.severity)},
                            {"message", {{"text", clean(finding.text)}}}};
        out["locations"] = locations(finding.evidence);
        out["properties"] = {{"stage", stage_id(finding.stage)}};
        return out;
    }

    const BootReport& report_;
    std::map<int, std::size_t> images_;  ///< the artifact of each disk
    std::map<std::string, std::size_t> files_;
    ordered_json artifacts_ = ordered_json::array();
    std::vector<std::string> rule_ids_;
    std::map<std::string, std::size_t> rule_indices_;
    std::set<std::pair<Code, std::string>> told_;  ///< findings that a system's result has told
};

}  // namespace

std::string report_sarif(const BootReport& report) { return Sarif(report).run().dump(2) + "\n"; }

}  // namespace herberge
