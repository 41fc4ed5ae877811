// SPDX-License-Identifier: MIT
#include "system/windows_services.hpp"

#include <fmt/format.h>
#include <algorithm>

namespace herberge {

namespace {

constexpr int most_depth = 64;

bool is_driver(const WindowsService& s) { return s.type == 1 || s.type == 2 || s.type == 8; }

}  // namespace

SafeList::SafeList(const Hive& system, const std::string& control_set, StartMode mode)
    : safe_(mode != StartMode::Normal) {
    if (!safe_) return;
    const auto key = system.at(
        fmt::format("{}\\Control\\SafeBoot\\{}", control_set, mode == StartMode::SafeNetwork ? "Network" : "Minimal"));
    const auto keys = key ? system.subkeys(*key) : tl::unexpected(key.error());
    there_ = keys.has_value();
    if (!keys) return;
    for (const auto one : *keys)
        if (const auto name = system.name(one)) names_.insert(lower_text(*name));
}

bool SafeList::lists(const WindowsService& service) const {
    if (!safe_) return true;
    const std::string file = lower_text(service.file.substr(service.file.rfind('/') + 1));
    return names_.contains(lower_text(service.name)) || (!file.empty() && names_.contains(file)) ||
           (!service.group.empty() && names_.contains(lower_text(service.group)));
}

WindowsServices::WindowsServices(const WindowsRegistry& registry, const FileSystem& fs, const WindowsCommands& commands,
                                 const SafeList& safe_list)
    : registry_(registry), fs_(fs), commands_(commands), safe_list_(safe_list) {
    for (const auto& service : registry.services) by_name_.emplace(lower_text(service.name), &service);
}

const WindowsService* WindowsServices::find(std::string_view name) const {
    const auto found = by_name_.find(lower_text(name));
    return found != by_name_.end() ? found->second : nullptr;
}

WindowsProgram WindowsServices::program_of(const WindowsService& service) const {
    if (!is_driver(service)) return commands_.program_of(service.image_path);
    const auto found = service.file.empty() ? fail(ErrorKind::NotFound, "none") : resolve(fs_, service.file);
    return {service.file, found.has_value(), {}};
}

/// What keeps a service from starting by itself.
std::string WindowsServices::own_problem(const WindowsService& service) const {
    if (service.start == 4) return "it is disabled";
    if (!safe_list_.lists(service) && service.start != 0) return "it is not in the list of what starts in safe mode";
    const auto program = program_of(service);
    if (!program.present && !program.file.empty()) return fmt::format("{} is not there", program.file);
    // A service of svchost is a library.
    if (!service.library.empty())
        if (const auto path = commands_.path_of(commands_.expanded(service.library));
            !path.empty() && !resolve(fs_, path))
            return fmt::format("its library {} is not there", path);
    return {};
}

/// What it depends on and does not start.
std::string WindowsServices::problem_below(const WindowsService& service, int depth) {
    for (const auto& name : service.needs) {
        // A plus marks a group of services.
        if (name.starts_with('+')) continue;
        const auto* other = find(name);
        if (other == nullptr) return fmt::format("it needs {}, which is no service here", name);
        if (const auto& below = judge(*other, depth + 1); !below.starts)
            return fmt::format("it needs {}, which does not start: {}", name, below.why);
    }
    for (const auto& group : service.needs_groups) {
        const bool any = std::ranges::any_of(registry_.services, [&](const WindowsService& other) {
            return &other != &service && lower_text(other.group) == lower_text(group) && other.start <= 2 &&
                   judge(other, depth + 1).starts;
        });
        if (!any) return fmt::format("it needs one of the group {}, and none of it starts", group);
    }
    return {};
}

const WindowsServices::Judged& WindowsServices::judge(const WindowsService& service, int depth) {
    const auto [at, added] = judged_.try_emplace(&service);
    Judged& out = at->second;
    if (!added) {
        if (!out.done) out = {true, false, "what it depends on runs in a circle"};
        return out;
    }
    std::string why = own_problem(service);
    if (why.empty() && depth < most_depth) why = problem_below(service, depth);
    if (out.done) return out;
    out.done = true;
    out.starts = why.empty();
    out.why = std::move(why);
    return out;
}

void WindowsServices::put(const WindowsService& service, const std::string& because, int depth) {
    if (!listed_.insert(&service).second) return;
    const auto& judged = judge(service, 0);
    if (depth < most_depth && judged.starts)
        for (const auto& name : service.needs)
            // Drivers that start by themselves are on before any service.
            if (const auto* other = find(name); other != nullptr && other->start > 1 && other->start != 4)
                put(*other, service.name, depth + 1);
    ServiceStart one;
    one.service = &service;
    one.program = program_of(service);
    one.starts = judged.starts;
    one.note = judged.starts ? one.program.note : judged.why;
    if (judged.starts && one.note.empty()) {
        if (!because.empty() && service.start != 2) one.note = fmt::format("because {} needs it", because);
        else if (service.triggered) one.note = "when what it waits for happens";
        else if (service.delayed) one.note = "a while after the others";
    }
    const std::string account = lower_text(service.account);
    if (account != "localsystem" && account != ".\\localsystem") one.account = service.account;
    out_.push_back(std::move(one));
}

std::vector<ServiceStart> WindowsServices::in_order() {
    for (const bool delayed : {false, true})
        for (const auto& service : registry_.services)
            if (service.start == 2 && (service.delayed || service.triggered) == delayed) put(service, {}, 0);
    return std::move(out_);
}

}  // namespace herberge
