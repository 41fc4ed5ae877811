// SPDX-License-Identifier: MIT
// Two more desks of the inn: the reception, which starts by systemd, and the kitchen, with run levels and scripts.
#pragma once

#include "demo_disks.hpp"

namespace demo {

/// The healthy machine; change its parts before it is put together.
FrontDesk reception();
FrontDesk kitchen();

std::vector<Story> reception_disks();
std::vector<Story> kitchen_disks();

}  // namespace demo
