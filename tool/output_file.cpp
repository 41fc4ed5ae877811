// SPDX-License-Identifier: MIT
#include "output_file.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>
#include <cerrno>
#include <cstdio>
#include <cstdlib>
#include <system_error>

#include <herberge/bytes.hpp>

namespace tool {

OutputFile::~OutputFile() {
    if (descriptor_ > STDERR_FILENO) ::close(descriptor_);
    if (!temporary_.empty()) ::unlink(temporary_.c_str());
}

std::string OutputFile::open(const std::string& path, bool replace) {
    path_ = path;
    replace_ = replace;
    auto why = [&] { return fmt::format("{}: {}", herberge::printable(path), std::generic_category().message(errno)); };
    if (path == "-") {
        descriptor_ = STDOUT_FILENO;
        return {};
    }
    struct stat about {};
    if (::stat(path.c_str(), &about) == 0) {
        if (S_ISCHR(about.st_mode) || S_ISFIFO(about.st_mode)) {
            descriptor_ = ::open(path.c_str(), O_WRONLY | O_CLOEXEC);
            return descriptor_ >= 0 ? std::string{} : why();
        }
        if (!S_ISREG(about.st_mode))
            return fmt::format("{} is neither a file nor a pipe; it is not written to", herberge::printable(path));
        if (!replace) return fmt::format("{} is there already; --replace replaces it", herberge::printable(path));
    }
    temporary_ = path + ".XXXXXX";
    descriptor_ = ::mkstemp(temporary_.data());
    if (descriptor_ >= 0) {
        // As any new file: mkstemp alone would keep others out.
        const mode_t mask = ::umask(0);
        ::umask(mask);
        ::fchmod(descriptor_, 0666 & ~mask);
        return {};
    }
    temporary_.clear();
    return why();
}

bool OutputFile::write(std::span<const std::uint8_t> bytes) {
    if (descriptor_ == STDOUT_FILENO) return std::fwrite(bytes.data(), 1, bytes.size(), stdout) == bytes.size();
    while (!bytes.empty()) {
        const ssize_t done = ::write(descriptor_, bytes.data(), bytes.size());
        if (done < 0 && errno == EINTR) continue;
        if (done <= 0) return false;
        bytes = bytes.subspan(static_cast<std::size_t>(done));
    }
    return true;
}

bool OutputFile::keep() {
    if (descriptor_ == STDOUT_FILENO) return std::fflush(stdout) == 0;
    if (::close(std::exchange(descriptor_, -1)) != 0) return false;
    if (temporary_.empty()) return true;
    // Without leave to replace, a file that has come into being since must not be lost either.
    const bool named =
        replace_ ? ::rename(temporary_.c_str(), path_.c_str()) == 0 : ::link(temporary_.c_str(), path_.c_str()) == 0;
    if (named && replace_) temporary_.clear();
    return named;
}

}  // namespace tool
