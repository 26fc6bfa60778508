#include "base/machine.hpp"

#include <unistd.h>

#include <fstream>
#include <string>

namespace escultura {

double machineMemory() {
    static const double bytes = [] {
        const long pages = sysconf(_SC_PHYS_PAGES), size = sysconf(_SC_PAGE_SIZE);
        double all = pages > 0 && size > 0 ? static_cast<double>(pages) * static_cast<double>(size) : 0;
        // a container's limit; "max" is none
        std::ifstream limit("/sys/fs/cgroup/memory.max");
        double most = 0;
        if (limit >> most && most > 0 && (all == 0 || most < all)) all = most;
        return all;
    }();
    return bytes;
}

}  // namespace escultura
