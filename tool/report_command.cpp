// SPDX-License-Identifier: MIT
#include <fmt/format.h>
#include <sys/stat.h>
#include <chrono>
#include <cstdlib>
#include <ctime>

#include <herberge/digest.hpp>

#include "commands.hpp"
#include "inputs.hpp"
#include "output_file.hpp"

namespace tool {

using namespace herberge;

namespace {

/// Now, or the time that reproducible builds ask for.
std::int64_t time_of_making() {
    if (const char* told = std::getenv("SOURCE_DATE_EPOCH"); told != nullptr) {
        std::string_view text(told);
        std::uint64_t seconds = 0;
        if (take_number(text, seconds) && text.empty()) return static_cast<std::int64_t>(seconds);
    }
    return std::time(nullptr);
}

/// What was asked for besides the images, so that somebody can ask again.
std::vector<std::string> told_options(const Options& options) {
    std::vector<std::string> out;
    if (options.firmware != "auto") out.push_back("--firmware " + options.firmware);
    if (!options.variables.empty()) out.push_back("--variables " + options.variables);
    if (options.secure_boot != "auto") out.push_back("--secure-boot " + options.secure_boot);
    if (!options.unreadable.empty()) out.push_back("--unreadable " + options.unreadable);
    for (const auto& one : options.unlock) out.push_back("--unlock " + one);
    if (options.optical) out.emplace_back("--optical");
    if (options.no_mending) out.emplace_back("--no-proposals");
    return out;
}

}  // namespace

int run_report(const Options& options) {
    const auto begun = std::chrono::steady_clock::now();
    Inputs opened;
    if (!opened.open(options)) return opened.status;
    CheckOptions wanted;
    if (const int problem = walk_options(options, wanted); problem != 0) return problem;
    BootReport report;
    report.machine = opened.machine;
    report.verdict = check(opened.machine, wanted);
    report.origin.seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - begun).count();
    if (!options.no_mending) report.mendings = mend(opened.machine, report.verdict, wanted);
    if (wanted.variables.given()) report.boot_options = inspect_boot_options(opened.machine, wanted.variables);
    report.origin.made_by = program_version;
    report.origin.made_at = time_of_making();
    report.origin.options = told_options(options);
    for (std::size_t i = 0; i < options.images.size(); ++i) {
        const auto& source = *opened.files.at(i);
        ReportedImage image{options.images[i], source.size(), 0, {}};
        struct stat about {};
        if (::stat(image.path.c_str(), &about) == 0) image.modified = about.st_mtime;
        if (options.hash) {
            image.sha256 = sha256_of(source);
            if (image.sha256.empty())
                return complain(Exit::unreadable,
                                fmt::format("{}: not all of it can be read for its digest", printable(image.path)));
        }
        report.origin.images.push_back(std::move(image));
    }
    const auto text = options.format == "html"       ? report_html(report)
                      : options.format == "markdown" ? report_markdown(report)
                      : options.format == "junit"    ? report_junit(report, options.strict)
                      : options.format == "sarif"    ? report_sarif(report)
                                                     : report_json(report);
    OutputFile file;
    const std::string to = options.output.empty() ? "-" : options.output;
    if (const auto problem = file.open(to, options.replace); !problem.empty()) return complain(Exit::usage, problem);
    if (!file.write({reinterpret_cast<const std::uint8_t*>(text.data()), text.size()}) || !file.keep())
        return complain(Exit::unreadable, fmt::format("{} could not be written", printable(to)));
    if (options.stats) opened.stats();
    if (report.verdict.all_start()) return Exit::all_start;
    return report.verdict.some_fail() || options.strict ? Exit::some_fail : Exit::cannot_tell;
}

}  // namespace tool
