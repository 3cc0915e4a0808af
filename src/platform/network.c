/* This computer's network: its addresses, who is near, and sockets of one interface. */
#define _GNU_SOURCE
#include "platform/platform.h"

#include <arpa/inet.h>
#include <errno.h>
#include <ifaddrs.h>
#include <net/if.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <unistd.h>

int mos_network_bind(int type, const char *interface, const struct mos_peer *own, int *out) {
    struct sockaddr_in a = {.sin_family = AF_INET, .sin_port = htons(own->port)};
    const int yes = 1;
    int e = 0, fd = socket(AF_INET, type | SOCK_CLOEXEC | SOCK_NONBLOCK, 0);
    if (fd < 0)
        return errno;
    a.sin_addr.s_addr = htonl(own->address);
    if ((interface && setsockopt(fd, SOL_SOCKET, SO_BINDTODEVICE, interface,
                                 (socklen_t)strlen(interface) + 1)) ||
        setsockopt(fd, SOL_SOCKET, type == SOCK_STREAM ? SO_REUSEADDR : SO_BROADCAST, &yes,
                   sizeof yes) ||
        bind(fd, (struct sockaddr *)&a, sizeof a))
        e = errno;
    if (e)
        close(fd);
    else
        *out = fd;
    return e;
}

int mos_network_open(const struct mos_wires *w, const char *interface, const struct mos_peer *own,
                     int *wire) {
    (void)w;
    return mos_network_bind(SOCK_DGRAM, interface, own, wire);
}

/* ---- addresses ---- */

static unsigned bits_of(const struct sockaddr *mask) {
    uint32_t m =
        mask ? ntohl(((const struct sockaddr_in *)(const void *)mask)->sin_addr.s_addr) : 0;
    unsigned n = 0;
    for (; m & UINT32_C(0x80000000); m <<= 1)
        n++;
    return n;
}

static bool has_address(const struct ifaddrs *all, const char *name) {
    for (; all; all = all->ifa_next)
        if (all->ifa_addr && all->ifa_addr->sa_family == AF_INET &&
            strcmp(all->ifa_name, name) == 0)
            return true;
    return false;
}

int mos_network_list(const struct mos_wires *w,
                     bool (*each)(void *self, const struct mos_own_address *address), void *self) {
    struct ifaddrs *all;
    bool goes_on = true;
    (void)w;
    if (getifaddrs(&all))
        return errno;
    for (const struct ifaddrs *i = all; i && goes_on; i = i->ifa_next) {
        bool is_address = i->ifa_addr && i->ifa_addr->sa_family == AF_INET;
        bool stands_for_none =
            i->ifa_addr && i->ifa_addr->sa_family == AF_PACKET && !has_address(all, i->ifa_name);
        struct mos_own_address one = {.interface = i->ifa_name,
                                      .index = if_nametoindex(i->ifa_name),
                                      .carrier = i->ifa_flags & IFF_RUNNING,
                                      .loopback = i->ifa_flags & IFF_LOOPBACK};
        if (!is_address && !stands_for_none)
            continue;
        if (is_address) {
            const struct sockaddr_in *a = (const void *)i->ifa_addr;
            one.address = ntohl(a->sin_addr.s_addr);
            one.prefix = bits_of(i->ifa_netmask);
        }
        goes_on = each(self, &one);
    }
    freeifaddrs(all);
    return 0;
}

/* ---- neighbours ---- */

int mos_network_neighbour(const struct mos_wires *w, uint32_t address, uint8_t ethernet[6]) {
    enum { COMPLETE = 2 };
    char line[256], ip[64], hardware[64];
    unsigned flags, b[6];
    int e = ENOENT;
    (void)w;
    FILE *f = fopen("/proc/net/arp", "re");
    if (!f)
        return errno;
    while (e && fgets(line, sizeof line, f)) {
        struct in_addr a;
        if (sscanf(line, "%63s %*s 0x%x %63s", ip, &flags, hardware) == 3 &&
            inet_pton(AF_INET, ip, &a) == 1 && ntohl(a.s_addr) == address && flags & COMPLETE &&
            sscanf(hardware, "%x:%x:%x:%x:%x:%x", b, b + 1, b + 2, b + 3, b + 4, b + 5) == 6) {
            for (int i = 0; i < 6; i++)
                ethernet[i] = (uint8_t)b[i];
            e = 0;
        }
    }
    fclose(f);
    return e;
}
