// SPDX-License-Identifier: MIT
// What is set in the firmware: boot options, their order, Secure Boot.
#include <fmt/format.h>
#include <algorithm>
#include <charconv>
#include <cstring>
#include <set>

#include <herberge/efi_files.hpp>
#include <herberge/places.hpp>
#include <herberge/uefi.hpp>

#include "bytes/guid.hpp"
#include "bytes/text16.hpp"
#include "ondisk/uefi.hpp"
#include "remedy/remedy.hpp"

namespace herberge::remedy {

namespace {

using Bytes = std::vector<std::uint8_t>;

constexpr std::uint32_t usual_attributes = 7;  ///< non-volatile, boot services, run time (UEFI 2.10, 8.2)
constexpr std::uint32_t active = 1;            ///< LOAD_OPTION_ACTIVE (3.1.3)
constexpr std::size_t most_applications = 6;

template <class T>
void append(Bytes& out, const T& value) {
    const auto at = out.size();
    out.resize(at + sizeof(value));
    std::memcpy(out.data() + at, &value, sizeof(value));
}
void append_text(Bytes& out, std::string_view text) {
    for (const char16_t unit : utf16_from(text)) append(out, ondisk::little_uint16_t(unit));
    append(out, ondisk::little_uint16_t(0));
}
void append_node(Bytes& out, std::uint8_t type, std::uint8_t subtype, const Bytes& content) {
    ondisk::DevicePathHead head{};
    head.type = type;
    head.subtype = subtype;
    head.length = static_cast<std::uint16_t>(sizeof(head) + content.size());
    append(out, head);
    out.insert(out.end(), content.begin(), content.end());
}

/// The partition and the file as a device path in its short form (10.3.4.1, 10.3.4.4); empty: the disk has no table
/// that names partitions.
Bytes device_path(const Machine& machine, const Volume& volume, const std::string& path) {
    constexpr std::uint8_t media = 4, hard_drive = 1, file = 4, end = 0x7F, whole_end = 0xFF;
    const Disk* disk = machine.disk(volume.disk);
    const Partition* entry = disk != nullptr ? disk->table.find(volume.partition) : nullptr;
    if (entry == nullptr) return {};
    ondisk::HardDriveNode node{};
    node.partition = static_cast<std::uint32_t>(entry->number);
    node.first_lba = entry->first_lba;
    node.sectors = entry->sectors;
    if (disk->table.kind == TableKind::Gpt) {
        const auto guid = guid_bytes(entry->partuuid);
        if (!guid) return {};
        node.signature = *guid;
        node.format = 2;
        node.signature_type = 2;
    } else {
        const ondisk::little_uint32_t signature(disk->table.disk_signature);
        std::memcpy(node.signature.data(), &signature, sizeof(signature));
        node.format = 1;
        node.signature_type = 1;
    }
    Bytes out;
    Bytes content;
    append(content, node);
    append_node(out, media, hard_drive, content);
    content.clear();
    std::string written = path;
    std::ranges::replace(written, '/', '\\');
    append_text(content, written);
    append_node(out, media, file, content);
    append_node(out, end, whole_end, {});
    return out;
}

Bytes load_option(std::string_view title, const Bytes& path) {
    ondisk::LoadOptionHead head{};
    head.attributes = active;
    head.path_length = static_cast<std::uint16_t>(path.size());
    Bytes out;
    append(out, head);
    append_text(out, title);
    out.insert(out.end(), path.begin(), path.end());
    return out;
}

void set_variable(UefiVariables& variables, const std::string& name, Bytes data) {
    const auto found = std::ranges::find_if(
        variables.all, [&](const UefiVariable& one) { return one.name == name && one.guid == UefiVariables::global; });
    if (found != variables.all.end()) found->data = std::move(data);
    else variables.all.push_back({name, std::string(UefiVariables::global), usual_attributes, std::move(data)});
}

/// `number` as the first of BootOrder.
void put_first(UefiVariables& variables, std::uint16_t number) {
    Bytes order;
    append(order, ondisk::little_uint16_t(number));
    if (const auto* old = variables.find("BootOrder"))
        for (std::size_t i = 0; i + 2 <= old->data.size(); i += 2) {
            const auto next = ondisk::from_bytes<ondisk::little_uint16_t>(old->data, i);
            if (next != number) append(order, next);
        }
    set_variable(variables, "BootOrder", std::move(order));
}

std::string option_name(std::uint16_t number) { return fmt::format("Boot{:04X}", number); }

std::uint16_t free_number(const UefiVariables& variables) {
    std::uint16_t number = 0;
    while (number < 0xFFFF && variables.find(option_name(number)) != nullptr) ++number;
    return number;
}

std::vector<std::uint16_t> numbers_of(const UefiVariables& variables) {
    std::vector<std::uint16_t> out;
    for (const auto& one : variables.all) {
        if (one.name.size() != 8 || !one.name.starts_with("Boot") || one.guid != UefiVariables::global) continue;
        unsigned number = 0;
        const auto [end, error] = std::from_chars(one.name.data() + 4, one.name.data() + 8, number, 16);
        if (error == std::errc{} && end == one.name.data() + 8) out.push_back(static_cast<std::uint16_t>(number));
    }
    return out;
}

/// Options that are there, made active and first.
void known_options(const Case& stopped, std::vector<Idea>& out) {
    const auto& variables = stopped.options.variables;
    for (const auto number : numbers_of(variables)) {
        const auto* option = variables.find(option_name(number));
        if (option->data.size() < sizeof(ondisk::LoadOptionHead)) continue;
        auto head = ondisk::from_bytes<ondisk::LoadOptionHead>(option->data);
        const bool asleep = (head.attributes & active) == 0;
        head.attributes = head.attributes | active;
        Bytes data = option->data;
        std::memcpy(data.data(), &head, sizeof(head));
        const auto title = utf8_from(units_from(std::span(data).subspan(sizeof(head)), false, true));
        out.push_back({fmt::format("in the firmware's variables, {}put {} “{}” first in BootOrder",
                                   asleep ? "make active and " : "", option_name(number), printable(title)),
                       "it is started instead of what came first",
                       {},
                       12,
                       [number, data](CheckOptions& options) {
                           set_variable(options.variables, option_name(number), data);
                           put_first(options.variables, number);
                           std::erase_if(options.variables.all,
                                         [](const UefiVariable& one) { return one.name == "BootNext"; });
                       }});
    }
}

/// Options for applications that are there and that nothing names.
void new_options(const Case& stopped, std::vector<Idea>& out) {
    std::size_t offered = 0;
    for (const auto& file : find_efi_files(stopped.machine, stopped.options.variables, stopped.options.efi_machine)) {
        const bool tool = file.application == EfiApplication::Unknown || file.application == EfiApplication::LinuxStub;
        const auto place = file_place(file.place);
        if (tool || !file.problem.empty() || !place || offered == most_applications) continue;
        const auto volume = stopped.machine.at(place->volume);
        const auto path = volume != nullptr ? device_path(stopped.machine, *volume, place->path) : Bytes{};
        if (path.empty()) continue;
        ++offered;
        const auto number = free_number(stopped.options.variables);
        const std::string title(efi_application_name(file.application));
        out.push_back({fmt::format("in the firmware's variables, add {} “{}” for {} and put it first in BootOrder",
                                   option_name(number), title, decode_device_path(path).text()),
                       "it is started instead of what came first",
                       {},
                       // A boot manager leaves the choice among all entries.
                       file.application == EfiApplication::UnifiedKernel ? 17 : 16,
                       [number, data = load_option(title, path)](CheckOptions& options) {
                           set_variable(options.variables, option_name(number), data);
                           put_first(options.variables, number);
                           std::erase_if(options.variables.all,
                                         [](const UefiVariable& one) { return one.name == "BootNext"; });
                       }});
    }
}

/// Without it, everything may be started: a last resort.
void secure_boot_off(const Case& stopped, std::vector<Idea>& out) {
    const auto* told = stopped.options.variables.find("SecureBoot");
    const bool on = stopped.options.secure_boot == SecureBoot::On ||
                    (stopped.options.secure_boot == SecureBoot::Auto && stopped.options.variables.given() &&
                     (told == nullptr || (!told->data.empty() && told->data.front() == 1)));
    if (!on) return;
    out.push_back({"switch Secure Boot off in the firmware's settings",
                   "nobody checks any more who signed what is started, and a volume that BitLocker guards asks for its "
                   "recovery key",
                   {},
                   40,
                   [](CheckOptions& options) { options.secure_boot = SecureBoot::Off; }});
}

}  // namespace

void propose_firmware(const Case& stopped, std::vector<Idea>& out) {
    if (stopped.verdict.firmware != FirmwareKind::Uefi) return;
    if (stopped.options.variables.given() && stopped.rung.stage <= Stage::Entry) {
        known_options(stopped, out);
        new_options(stopped, out);
    }
    secure_boot_off(stopped, out);
}

}  // namespace herberge::remedy
