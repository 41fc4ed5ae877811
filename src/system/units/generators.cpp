// SPDX-License-Identifier: MIT
#include "system/units/generators.hpp"

#include <fmt/format.h>
#include <algorithm>
#include <set>

#include <herberge/lines.hpp>

#include "system/units/names.hpp"

namespace herberge::units {

namespace {

constexpr const char* fstab = "/etc/fstab";
constexpr const char* crypttab = "/etc/crypttab";

void write(GeneratedFiles& out, const std::string& folder, const std::string& name, std::string text, Evidence said) {
    out.insert_or_assign(folder + "/" + name, Generated{std::move(text), {}, std::move(said)});
}

/// As generator_add_symlink: FOLDER/UNIT.KIND/NAME.
void link(GeneratedFiles& out, const std::string& unit, std::string_view kind, const std::string& name, Evidence said,
          const std::string& folder = generator, const std::string& to = {}) {
    out.insert_or_assign(fmt::format("{}/{}.{}/{}", folder, unit, kind, name),
                         Generated{{}, to.empty() ? "../" + name : to, std::move(said)});
}

/// getmntent(3): \040 and its kin.
std::string unescape_field(std::string_view field) {
    std::string out;
    for (std::size_t i = 0; i < field.size(); ++i) {
        const auto code = field.substr(i, 4);
        if (code == "\\040") out += ' ';
        else if (code == "\\011") out += '\t';
        else if (code == "\\012") out += '\n';
        else if (code == "\\134" || field.substr(i, 2) == "\\\\") out += '\\';
        else {
            out += field[i];
            continue;
        }
        i += code.starts_with("\\\\") ? 1 : 3;
    }
    return out;
}

struct Options {
    std::vector<std::string> all;
    explicit Options(std::string_view text) {
        while (!text.empty()) {
            const auto end = std::min(text.find(','), text.size());
            if (end > 0) all.emplace_back(text.substr(0, end));
            text.remove_prefix(std::min(end + 1, text.size()));
        }
    }
    [[nodiscard]] bool has(std::string_view name) const { return std::ranges::find(all, name) != all.end(); }
    [[nodiscard]] std::optional<std::string> value(std::string_view name) const {
        std::optional<std::string> out;
        for (const auto& one : all)
            if (one.size() > name.size() && one.starts_with(name) && one[name.size()] == '=')
                out = one.substr(name.size() + 1);
        return out;
    }
    [[nodiscard]] std::vector<std::string> values(std::string_view name) const {
        std::vector<std::string> out;
        for (const auto& one : all)
            if (one.size() > name.size() && one.starts_with(name) && one[name.size()] == '=')
                out.push_back(one.substr(name.size() + 1));
        return out;
    }
    /// The later of the two counts (fstab_test_yes_no_option).
    [[nodiscard]] bool last_of(std::string_view yes, std::string_view no) const {
        bool out = false;
        for (const auto& one : all) out = one == yes || (one != no && out);
        return out;
    }
};

/// The kernel mounts these itself, or systemd does before it reads units (mount_point_is_api, mount_point_ignore).
bool is_left_alone(std::string_view where) {
    static constexpr std::string_view api[] = {"/proc",
                                               "/sys",
                                               "/dev",
                                               "/dev/pts",
                                               "/dev/shm",
                                               "/run",
                                               "/sys/fs/cgroup",
                                               "/sys/kernel/security",
                                               "/sys/fs/pstore",
                                               "/sys/fs/bpf",
                                               "/sys/firmware/efi/efivars",
                                               "/sys/fs/smackfs",
                                               "/run/lock"};
    return std::ranges::find(api, where) != std::end(api) || where.starts_with("/sys/fs/cgroup/") ||
           where == "/sys/fs/selinux";
}

class Fstab {
public:
    Fstab(const GeneratorInput& input, GeneratedFiles& out) : input_(input), out_(out) {}

    void run() {
        if (input_.arguments.value("fstab") == "no" || input_.arguments.value("fstab") == "0") return;
        link(out_, "local-fs.target", "wants", "systemd-remount-fs.service",
             evidence_place(fmt::format("{}:{}", input_.volume, fstab)), generator,
             "/lib/systemd/system/systemd-remount-fs.service");
        const auto text = read_text_file(input_.fs, fstab);
        if (!text) return;
        for (const auto& line : parse_fstab(*text, 2)) one(line);
    }

private:
    [[nodiscard]] Evidence said(const FstabLine& line) const {
        return evidence_line(fmt::format("{}:{}", input_.volume, fstab), line.line);
    }

    void one(const FstabLine& line) {
        const std::string what = device_of(unescape_field(line.device));
        const Options options(line.options);
        const bool noauto = options.last_of("noauto", "auto");
        const bool nofail = options.last_of("nofail", "fail");
        if (line.type == "swap") return swap(line, what, options, noauto, nofail);
        std::string where = unescape_field(line.mount_point);
        // Links on the way to the mount point are followed.
        if (const auto real = resolve(input_.fs, where); real && where.starts_with('/')) where = real->path;
        where = tidy_path(where);
        if (!where.starts_with('/') || line.type == "autofs" || is_left_alone(where)) return;
        mount(line, what, where, options, noauto, nofail);
    }

    void swap(const FstabLine& line, const std::string& what, const Options& options, bool noauto, bool nofail) {
        if (input_.arguments.value("systemd.swap") == "no" || input_.arguments.value("systemd.swap") == "0" ||
            input_.arguments.has("noswap"))
            return;
        const std::string name = escape_path(what) + ".swap";
        if (!first_of(name)) return;
        std::string text = "[Unit]\nSourcePath=/etc/fstab\n";
        if (is_device_path(what)) text += fmt::format("After=blockdev@{}.target\n", escape_path(what));
        text += fmt::format("[Swap]\nWhat={}\n", what);
        if (!line.options.empty() && line.options != "defaults") text += "Options=" + line.options + "\n";
        write(out_, generator, name, text, said(line));
        device_timeout(line, what, options);
        if (!noauto) link(out_, "swap.target", nofail ? "wants" : "requires", name, said(line));
    }

    void device_timeout(const FstabLine& line, const std::string& what, const Options& options) {
        const auto timeout = options.value("x-systemd.device-timeout");
        if (!timeout || !is_device_path(what)) return;
        write(out_, generator, escape_path(what) + ".device.d/50-device-timeout.conf",
              fmt::format("[Unit]\nJobRunningTimeoutSec={}\n", *timeout), said(line));
    }

    void mount(const FstabLine& line, const std::string& what, const std::string& where, const Options& options,
               bool noauto, bool nofail) {
        const bool root = where == "/";
        if (root) noauto = nofail = false;
        const bool automount = !root && options.has("x-systemd.automount");
        const bool network = options.has("_netdev") || is_network_type(line.type);
        const std::string target = network ? "remote-fs.target" : "local-fs.target";
        const auto wanted_by = options.values("x-systemd.wanted-by"),
                   required_by = options.values("x-systemd.required-by");
        const std::string name = root ? "-.mount" : escape_path(where) + ".mount";
        if (!first_of(name)) return;
        std::string text = "[Unit]\nSourcePath=/etc/fstab\n";
        for (const auto& unit : options.values("x-systemd.after"))
            text += fmt::format("After={}\n", unit_or_path(unit));
        for (const auto& unit : options.values("x-systemd.before"))
            text += fmt::format("Before={}\n", unit_or_path(unit));
        for (const auto& unit : options.values("x-systemd.requires"))
            text += fmt::format("After={0}\nRequires={0}\n", unit_or_path(unit));
        for (const auto& path : options.values("x-systemd.requires-mounts-for"))
            text += fmt::format("RequiresMountsFor={}\n", path);
        // 252 orders a mount with nofail nowhere, also one that an automount pulls in.
        if (!nofail) text += fmt::format("Before={}\n", target);
        const std::string device = escape_path(what);
        const bool on_device = is_device_path(what);
        if (on_device && !options.has("bind")) text += fmt::format("After=blockdev@{}.target\n", device);
        if (line.pass > 0 && on_device &&
            (line.type.empty() || line.type == "auto" || has_checker(input_.fs, line.type))) {
            if (root)
                link(out_, "local-fs.target", "wants", "systemd-fsck-root.service", said(line), generator,
                     "/lib/systemd/system/systemd-fsck-root.service");
            else
                text += fmt::format("{1}=systemd-fsck@{0}.service\nAfter=systemd-fsck@{0}.service\n", device,
                                    where == "/usr" ? "Wants" : "Requires");
        }
        text += fmt::format("[Mount]\nWhat={}\nWhere={}\n", what, where);
        if (!line.type.empty() && line.type != "auto") text += "Type=" + line.type + "\n";
        if (!line.options.empty() && line.options != "defaults") text += "Options=" + line.options + "\n";
        write(out_, generator, name, text, said(line));
        device_timeout(line, what, options);
        if (options.has("x-systemd.makefs") && on_device) {
            const auto maker = fmt::format("systemd-makefs@{}.service", device);
            write(out_, generator, maker,
                  fmt::format("[Unit]\nDefaultDependencies=no\nBindsTo=%i.device\nConflicts=shutdown.target\n"
                              "After=%i.device\nBefore=shutdown.target systemd-fsck@%i.service {}\n"
                              "[Service]\nType=oneshot\nRemainAfterExit=yes\n"
                              "ExecStart=/lib/systemd/systemd-makefs {} {}\n",
                              name, line.type, what),
                  said(line));
            link(out_, name, "requires", maker, said(line));
        }
        if (options.has("x-systemd.growfs") && !options.has("bind")) {
            const auto grower = fmt::format("systemd-growfs@{}.service", escape_path(where));
            write(out_, generator, grower,
                  fmt::format("[Unit]\nDefaultDependencies=no\nBindsTo=%i.mount\nConflicts=shutdown.target\n"
                              "After=systemd-repart.service %i.mount\nBefore=shutdown.target {}\n{}"
                              "[Service]\nType=oneshot\nRemainAfterExit=yes\n"
                              "ExecStart=/lib/systemd/systemd-growfs {}\n",
                              target, root ? "After=systemd-remount-fs.service\n" : "", where),
                  said(line));
            link(out_, name, "wants", grower, said(line));
        }
        const std::string pulled = automount ? escape_path(where) + ".automount" : name;
        if (automount) {
            std::string own = "[Unit]\nSourcePath=/etc/fstab\n";
            write(out_, generator, pulled, own + fmt::format("[Automount]\nWhere={}\n", where), said(line));
        }
        for (const auto& unit : wanted_by) link(out_, unit, "wants", pulled, said(line));
        for (const auto& unit : required_by) link(out_, unit, "requires", pulled, said(line));
        if ((automount || !noauto) && wanted_by.empty() && required_by.empty())
            link(out_, target, nofail ? "wants" : "requires", pulled, said(line));
    }

    /// A second line of the same place meets a file that is there, and is passed over (generator_open_unit_file).
    bool first_of(const std::string& unit) { return made_.insert(unit).second; }

    /// Units by their name, devices and mount points by their path.
    static std::string unit_or_path(const std::string& text) {
        if (is_device_path(text)) return escape_path(text) + ".device";
        if (text.starts_with('/')) return escape_path(text) + ".mount";
        return parts_of(text) ? text : text + ".service";
    }

    const GeneratorInput& input_;
    GeneratedFiles& out_;
    std::set<std::string> made_;
};

}  // namespace

bool is_network_type(std::string_view type) {
    if (type.starts_with("fuse.")) type.remove_prefix(5);
    static constexpr std::string_view names[] = {"cifs",  "smb3",   "smbfs", "sshfs", "ncpfs",     "ncp",
                                                 "nfs",   "nfs4",   "gfs",   "gfs2",  "glusterfs", "pvfs2",
                                                 "ocfs2", "lustre", "davfs", "afs",   "ceph",      "9p"};
    return std::ranges::find(names, type) != std::end(names);
}

bool has_checker(const FileSystem& fs, std::string_view type) {
    return std::ranges::any_of(std::initializer_list<const char*>{"/usr/sbin", "/usr/bin", "/sbin", "/bin"},
                               [&](const char* folder) {
                                   const auto found = resolve(fs, fmt::format("{}/fsck.{}", folder, type));
                                   return found && found->file.type == FileType::Regular;
                               });
}

bool is_device_path(std::string_view path) { return path.starts_with("/dev/") || path.starts_with("/sys/"); }

std::string device_of(std::string_view written) {
    const std::pair<std::string_view, std::string_view> tags[] = {
        {"LABEL=", "by-label"}, {"UUID=", "by-uuid"}, {"PARTUUID=", "by-partuuid"}, {"PARTLABEL=", "by-partlabel"}};
    for (const auto& [tag, folder] : tags) {
        if (!written.starts_with(tag)) continue;
        auto value = written.substr(tag.size());
        if (value.size() > 1 && value.front() == '"' && value.back() == '"') value = value.substr(1, value.size() - 2);
        // As udev names its links (encode_devnode_name).
        std::string name;
        for (const char c : value) {
            const bool plain = (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') ||
                               std::string_view("#+-.:=@_").find(c) != std::string_view::npos ||
                               static_cast<unsigned char>(c) >= 0x80;
            name += plain ? std::string(1, c) : fmt::format("\\x{:02x}", static_cast<unsigned char>(c));
        }
        return fmt::format("/dev/disk/{}/{}", folder, name);
    }
    return std::string(written);
}

void from_fstab(const GeneratorInput& input, GeneratedFiles& out) { Fstab(input, out).run(); }

void from_crypttab(const GeneratorInput& input, GeneratedFiles& out) {
    const auto off = input.arguments.value("luks");
    if (off == "no" || off == "0") return;
    const auto text = read_text_file(input.fs, crypttab);
    if (!text) return;
    int number = 0;
    for (const auto& line : lines_of(*text)) {
        ++number;
        const auto fields = quoted_words(line);
        if (!fields || fields->size() < 2 || (*fields)[0].starts_with('#')) continue;
        const auto& name = (*fields)[0];
        const std::string device = device_of((*fields)[1]);
        const std::string key = fields->size() > 2 && (*fields)[2] != "none" && (*fields)[2] != "-" ? (*fields)[2] : "";
        const Options options(fields->size() > 3 ? std::string_view((*fields)[3]) : std::string_view{});
        const bool noauto = options.last_of("noauto", "auto"), nofail = options.last_of("nofail", "fail");
        const bool netdev = options.has("_netdev");
        const auto said = evidence_line(fmt::format("{}:{}", input.volume, crypttab), number);
        const std::string unit = fmt::format("systemd-cryptsetup@{}.service", escape(name));
        const std::string device_unit = escape_path(device) + ".device";
        const std::string target = netdev ? "remote-cryptsetup.target" : "cryptsetup.target";
        std::string body = fmt::format(
            "[Unit]\nSourcePath=/etc/crypttab\nDefaultDependencies=no\nAfter={}\nBefore=blockdev@dev-mapper-{}.target\n"
            "Wants=blockdev@dev-mapper-{}.target\nIgnoreOnIsolate=true\n",
            netdev ? "remote-fs-pre.target" : "cryptsetup-pre.target systemd-udevd-kernel.socket", escape(name),
            escape(name));
        if (!nofail) body += fmt::format("Before={}\n", target);
        if (key == "/dev/urandom" || key == "/dev/random" || key == "/dev/hw_random")
            body += "After=systemd-random-seed.service\n";
        else if (key.starts_with('/') && !is_device_path(key)) body += fmt::format("RequiresMountsFor={}\n", key);
        if (is_device_path(device)) body += fmt::format("BindsTo={0}\nAfter={0}\nBefore=umount.target\n", device_unit);
        else body += fmt::format("RequiresMountsFor={}\n", device);
        body += "Conflicts=umount.target\n[Service]\nType=oneshot\nRemainAfterExit=yes\nTimeoutSec=infinity\n";
        body += fmt::format("ExecStart=/lib/systemd/systemd-cryptsetup attach '{}' '{}' '{}' '{}'\n", name, device, key,
                            fields->size() > 3 ? (*fields)[3] : "");
        write(out, generator, unit, body, said);
        if (!noauto) link(out, target, nofail ? "wants" : "requires", unit, said);
        const std::string mapped = fmt::format("dev-mapper-{}.device", escape(name));
        link(out, mapped, "requires", unit, said);
        if (!noauto && !nofail)
            write(out, generator, mapped + ".d/40-device-timeout.conf", "[Unit]\nJobTimeoutSec=0\n", said);
    }
}

void from_command_line(const GeneratorInput& input, GeneratedFiles& out) {
    const auto said = evidence_place("the command line");
    // Logins on the consoles that the kernel uses (getty-generator.c).
    for (const auto& word : input.arguments.words()) {
        if (word.starts_with("console=")) {
            const auto device =
                word.substr(8, word.find(',') == std::string::npos ? std::string::npos : word.find(',') - 8);
            const bool screen = device.starts_with("tty") && device.size() > 3 && device[3] >= '0' && device[3] <= '9';
            if (device.empty() || device == "null" || screen || device == "tty" || device == "tty0") continue;
            link(out, "getty.target", "wants", fmt::format("serial-getty@{}.service", escape_path(device)), said,
                 generator, "/lib/systemd/system/serial-getty@.service");
        }
        const auto value = [&](std::string_view key) {
            return word.starts_with(key) ? std::optional(word.substr(key.size())) : std::nullopt;
        };
        if (const auto unit = value("systemd.mask="))
            out.insert_or_assign(fmt::format("{}/{}", generator_early, parts_of(*unit) ? *unit : *unit + ".service"),
                                 Generated{{}, "/dev/null", said});
        if (const auto unit = value("systemd.wants=")) {
            const auto name = parts_of(*unit) ? *unit : *unit + ".service";
            link(out, "default.target", "wants", name, said, generator_early, "/lib/systemd/system/" + name);
        }
        if (word == "systemd.debug-shell" || word == "systemd.debug_shell" || word == "systemd.debug-shell=1")
            link(out, "default.target", "wants", "debug-shell.service", said, generator_early,
                 "/lib/systemd/system/debug-shell.service");
    }
    const auto runs = [&](const char* path) {
        const auto file = resolve(input.fs, path);
        return file && file->file.type == FileType::Regular && (file->file.permissions & 0111U) != 0;
    };
    if (runs("/etc/rc.local"))
        link(out, "multi-user.target", "wants", "rc-local.service",
             evidence_place(fmt::format("{}:/etc/rc.local", input.volume)), generator,
             "/lib/systemd/system/rc-local.service");
    for (const char* mark : {"/system-update", "/etc/system-update"})
        if (resolve(input.fs, mark, {.follow_last = false})) {
            out.insert_or_assign(std::string(generator_early) + "/default.target",
                                 Generated{{},
                                           "/lib/systemd/system/system-update.target",
                                           evidence_place(fmt::format("{}:{}", input.volume, mark))});
            break;
        }
}

}  // namespace herberge::units
