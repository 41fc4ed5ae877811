// SPDX-License-Identifier: MIT
// Device paths (UEFI specification 2.10, section 10.3), in the text form of section 10.6.
#include <fmt/format.h>
#include <algorithm>

#include <herberge/uefi.hpp>

#include "bytes/text16.hpp"
#include "ondisk/uefi.hpp"

namespace herberge {

namespace {

constexpr std::size_t most_nodes = 64;
constexpr std::uint8_t end_type = 0x7F;
constexpr std::uint8_t end_whole = 0xFF;
constexpr std::uint32_t eisa = 0x41D0;  // "PNP" in the low half of a compressed identifier

/// A node's body as a structure, in words and field by field; false when it is too short for it.
template <class T, class Text>
bool decode(std::span<const std::uint8_t> body, std::vector<Field>& fields, std::uint64_t at, DevicePathNode& node,
            Text text) {
    if (body.size() < sizeof(T)) return false;
    const auto value = ondisk::from_bytes<T>(body);
    node.text = text(value);
    fields = ondisk::annotate(value, at);
    return true;
}

std::string ascii(std::span<const std::uint8_t> bytes) {
    std::string out;
    for (const auto b : bytes)
        if (b != 0) out += static_cast<char>(b);
    return printable(out);
}

std::string acpi_text(const ondisk::AcpiNode& n) {
    const std::uint32_t hid = n.hid;
    const std::uint32_t product = hid >> 16U;
    if ((hid & 0xFFFFU) == eisa) {
        if (product == 0x0A03) return fmt::format("PciRoot(0x{:x})", std::uint32_t{n.uid});
        if (product == 0x0A08) return fmt::format("PcieRoot(0x{:x})", std::uint32_t{n.uid});
        if (product == 0x0604) return fmt::format("Floppy(0x{:x})", std::uint32_t{n.uid});
        return fmt::format("Acpi(PNP{:04X},0x{:x})", product, std::uint32_t{n.uid});
    }
    return fmt::format("Acpi(0x{:08x},0x{:x})", hid, std::uint32_t{n.uid});
}

void hardware(std::uint8_t subtype, std::span<const std::uint8_t> body, std::uint64_t at, DevicePathNode& node,
              std::vector<Field>& fields) {
    if (subtype == 1 && decode<ondisk::PciNode>(body, fields, at, node, [](const auto& n) {
            return fmt::format("Pci(0x{:x},0x{:x})", n.device, n.function);
        }))
        return;
    if (subtype == 4 && body.size() >= 16) node.text = fmt::format("VenHw({})", ondisk::guid_at(body, 0));
    else if (subtype == 3) node.text = "MemoryMapped";
    else if (subtype == 5) node.text = "Controller";
    else node.text = fmt::format("HardwarePath({})", subtype);
}

void message(std::uint8_t subtype, std::span<const std::uint8_t> body, std::uint64_t at, DevicePathNode& node,
             std::vector<Field>& fields) {
    using namespace ondisk;
    switch (subtype) {
        case 2:
            if (decode<ScsiNode>(body, fields, at, node, [](const auto& n) {
                    return fmt::format("Scsi(0x{:x},0x{:x})", std::uint16_t{n.target}, std::uint16_t{n.lun});
                }))
                return;
            break;
        case 5:
            if (decode<UsbNode>(body, fields, at, node,
                                [](const auto& n) { return fmt::format("USB(0x{:x},0x{:x})", n.port, n.interface); }))
                return;
            break;
        case 10:
            if (body.size() >= 16) return void(node.text = fmt::format("VenMsg({})", guid_at(body, 0)));
            break;
        case 11:
            if (body.size() >= 32) return void(node.text = fmt::format("MAC({})", hex(body.first(6), ":")));
            break;
        case 12:
            if (body.size() >= 8)
                return void(node.text = fmt::format("IPv4({}.{}.{}.{})", body[4], body[5], body[6], body[7]));
            break;
        case 13: return void(node.text = "IPv6");
        case 18:
            if (decode<SataNode>(body, fields, at, node, [](const auto& n) {
                    return fmt::format("Sata(0x{:x},0x{:x},0x{:x})", std::uint16_t{n.port},
                                       std::uint16_t{n.multiplier_port}, std::uint16_t{n.lun});
                }))
                return;
            break;
        case 23:
            if (decode<NvmeNode>(body, fields, at, node, [](const auto& n) {
                    std::array<std::uint8_t, 8> id = n.eui64;
                    std::ranges::reverse(id);
                    return fmt::format("NVMe(0x{:x},{})", std::uint32_t{n.name_space}, hex(id, "-"));
                }))
                return;
            break;
        case 24: return void(node.text = fmt::format("Uri({})", ascii(body)));
        case 26:
            if (!body.empty()) return void(node.text = fmt::format("SD(0x{:x})", body[0]));
            break;
        case 29:
            if (!body.empty()) return void(node.text = fmt::format("eMMC(0x{:x})", body[0]));
            break;
        default: break;
    }
    static constexpr std::pair<std::uint8_t, std::string_view> others[] = {
        {1, "Ata"},    {3, "Fibre"}, {15, "UsbClass"}, {16, "UsbWwid"}, {17, "Unit"},
        {19, "iSCSI"}, {20, "Vlan"}, {25, "UFS"},      {28, "Wi-Fi"},   {31, "Dns"}};
    const auto* known = std::ranges::find(others, subtype, &std::pair<std::uint8_t, std::string_view>::first);
    node.text = known != std::end(others) ? std::string(known->second) : fmt::format("Msg({})", subtype);
}

void media(std::uint8_t subtype, std::span<const std::uint8_t> body, std::uint64_t at, DevicePathNode& node,
           std::vector<Field>& fields) {
    using namespace ondisk;
    if (subtype == 1 && body.size() >= sizeof(HardDriveNode)) {
        const auto drive = from_bytes<HardDriveNode>(body);
        node.partition = drive.partition;
        if (drive.signature_type == 2) node.signature = guid_at(drive.signature, 0);
        else if (drive.signature_type == 1)
            node.signature = fmt::format("{:08x}", std::uint32_t{from_bytes<little_uint32_t>(drive.signature)});
        const std::string_view kind = drive.signature_type == 2   ? "GPT"
                                      : drive.signature_type == 1 ? "MBR"
                                                                  : "no signature";
        node.text = fmt::format("HD({},{},{})", *node.partition, kind, node.signature);
        fields = annotate(drive, at);
        for (auto& field : fields) {
            if (field.name == "signature")
                field.meaning =
                    drive.signature_type == 2 ? "partition " + node.signature : "disk signature " + node.signature;
            if (field.name == "signature_type") field.meaning = kind;
        }
    } else if (subtype == 2) {
        if (!decode<OpticalNode>(body, fields, at, node,
                                 [](const auto& n) { return fmt::format("CDROM({})", std::uint32_t{n.entry}); }))
            node.text = "CDROM";
    } else if (subtype == 3 && body.size() >= 16) {
        node.text = fmt::format("VenMedia({})", guid_at(body, 0));
    } else if (subtype == 4) {
        node.file = printable(utf8_from(units_from(body, false, true)));
        node.text = *node.file;
        fields.push_back({"path",
                          at,
                          body.size(),
                          *node.file,
                          body.size() >= 2 && body[body.size() - 1] == 0 && body[body.size() - 2] == 0
                              ? ""
                              : "does not end with a zero",
                          {}});
    } else if (subtype == 6 && body.size() >= 16) {
        node.text = fmt::format("FvFile({})", guid_at(body, 0));
    } else if (subtype == 7 && body.size() >= 16) {
        node.text = fmt::format("Fv({})", guid_at(body, 0));
    } else {
        node.text = subtype == 8 ? "Offset" : subtype == 9 ? "RamDisk" : fmt::format("Media({})", subtype);
    }
}

/// Visits the nodes in order, the end node too; true: the path ends as it should.
template <class Visit>
bool walk(std::span<const std::uint8_t> bytes, Visit visit) {
    std::size_t at = 0;
    for (std::size_t count = 0; count < most_nodes && at + sizeof(ondisk::DevicePathHead) <= bytes.size(); ++count) {
        const auto head = ondisk::from_bytes<ondisk::DevicePathHead>(bytes, at);
        const std::size_t length = head.length;
        if (length < sizeof(head) || length > bytes.size() - at) return false;
        DevicePathNode node;
        node.type = head.type;
        node.subtype = head.subtype;
        std::vector<Field> fields;
        const auto body = bytes.subspan(at + sizeof(head), length - sizeof(head));
        const std::uint64_t body_at = at + sizeof(head);
        switch (head.type) {
            case 1: hardware(head.subtype, body, body_at, node, fields); break;
            case 2:
                if (head.subtype != 1 || !decode<ondisk::AcpiNode>(body, fields, body_at, node, acpi_text))
                    node.text = "ACPI";
                break;
            case 3: message(head.subtype, body, body_at, node, fields); break;
            case 4: media(head.subtype, body, body_at, node, fields); break;
            case 5: node.text = body.size() > 4 ? fmt::format("BBS({})", ascii(body.subspan(4))) : "BBS"; break;
            case end_type: node.text = head.subtype == end_whole ? "the end" : "the end of one of several paths"; break;
            default: node.text = fmt::format("Path({},{})", head.type, head.subtype); break;
        }
        visit(at, head, node, fields);
        // Of several paths, only the first one counts.
        if (head.type == end_type) return true;
        at += length;
    }
    return false;
}

}  // namespace

std::string DevicePath::text() const {
    std::string out;
    for (const auto& node : nodes) out += (out.empty() ? "" : "/") + node.text;
    return out;
}

DevicePath decode_device_path(std::span<const std::uint8_t> bytes) {
    DevicePath out;
    out.whole = walk(bytes, [&](std::size_t, const auto&, DevicePathNode& node, const auto&) {
        if (node.type != end_type) out.nodes.push_back(std::move(node));
    });
    return out;
}

std::vector<Field> annotate_device_path(std::span<const std::uint8_t> bytes, std::uint64_t at) {
    std::vector<Field> out;
    std::size_t number = 0;
    std::size_t next = 0;
    const bool whole = walk(bytes, [&](std::size_t here, const ondisk::DevicePathHead& head, const DevicePathNode& node,
                                       const std::vector<Field>& fields) {
        const std::string prefix = fmt::format("node {}.", ++number);
        auto own = ondisk::annotate(head, at + here, prefix);
        own.front().meaning = node.text;
        out.insert(out.end(), own.begin(), own.end());
        for (auto field : fields) {
            field.name.insert(0, prefix);
            field.offset += at;
            out.push_back(std::move(field));
        }
        next = here + head.length;
    });
    if (!whole)
        out.push_back({fmt::format("node {}", number + 1),
                       at + next,
                       bytes.size() - next,
                       hex(bytes.subspan(next).first(std::min<std::size_t>(8, bytes.size() - next))),
                       "no node that fits, and no end before it",
                       {}});
    return out;
}

}  // namespace herberge
