/* This computer's network: its addresses, who is near, and sockets of one interface. */
#define _GNU_SOURCE
#include "platform/platform.h"

#include <arpa/inet.h>
#include <errno.h>
#include <ifaddrs.h>
#include <linux/filter.h>
#include <linux/if_ether.h>
#include <linux/if_packet.h>
#include <net/if.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <unistd.h>

/* The socket, unless something failed. */
static int give(int fd, int e, int *out) {
    if (e)
        close(fd);
    else
        *out = fd;
    return e;
}

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
    return give(fd, e, out);
}

int mos_network_open(const struct mos_wires *w, const char *interface, const struct mos_peer *own,
                     int *wire) {
    (void)w;
    return mos_network_bind(SOCK_DGRAM, interface, own, wire);
}

/* ---- what comes in ---- */

int mos_network_overhear(const struct mos_wires *w, unsigned interface, const uint16_t *ports,
                         size_t count, int *wire) {
    enum { MOST = 8, SYN_ACK = 0x12, SYN = 2, NEXT = 0, TO_PORT = 4, NOT = 100, IS };
    /* a packet begins with its network header */
    const struct sock_filter before[] = {
        BPF_STMT(BPF_LD | BPF_W | BPF_ABS, (uint32_t)(SKF_AD_OFF + SKF_AD_PKTTYPE)),
        BPF_JUMP(BPF_JMP | BPF_JEQ | BPF_K, PACKET_OUTGOING, NOT, NEXT),
        BPF_STMT(BPF_LD | BPF_W | BPF_ABS, (uint32_t)(SKF_AD_OFF + SKF_AD_PROTOCOL)),
        BPF_JUMP(BPF_JMP | BPF_JEQ | BPF_K, ETH_P_ARP, IS, NEXT),
        BPF_JUMP(BPF_JMP | BPF_JEQ | BPF_K, ETH_P_IP, NEXT, NOT),
        BPF_STMT(BPF_LD | BPF_H | BPF_ABS, 6),
        BPF_JUMP(BPF_JMP | BPF_JSET | BPF_K, 0x1fff, NOT, NEXT), /* a later part of one */
        BPF_STMT(BPF_LDX | BPF_B | BPF_MSH, 0),
        BPF_STMT(BPF_LD | BPF_B | BPF_ABS, 9),
        BPF_JUMP(BPF_JMP | BPF_JEQ | BPF_K, IPPROTO_UDP, TO_PORT, NEXT),
        BPF_JUMP(BPF_JMP | BPF_JEQ | BPF_K, IPPROTO_TCP, NEXT, NOT),
        BPF_STMT(BPF_LD | BPF_B | BPF_IND, 13),
        BPF_STMT(BPF_ALU | BPF_AND | BPF_K, SYN_ACK),
        BPF_JUMP(BPF_JMP | BPF_JEQ | BPF_K, SYN, NEXT, NOT),
        BPF_STMT(BPF_LD | BPF_H | BPF_IND, 2), /* TO_PORT behind its jump */
    };
    const struct sock_filter is_not = BPF_STMT(BPF_RET | BPF_K, 0),
                             is = BPF_STMT(BPF_RET | BPF_K, MOS_OVERHEARD);
    struct sock_filter all[sizeof before / sizeof *before + MOST + 2];
    size_t n = sizeof before / sizeof *before;
    struct sockaddr_ll at = {
        .sll_family = AF_PACKET, .sll_protocol = htons(ETH_P_ALL), .sll_ifindex = (int)interface};
    const int yes = 1;
    int e = 0, fd;
    (void)w;
    if (count > MOST)
        return EINVAL;
    memcpy(all, before, sizeof before);
    for (size_t i = 0; i < count; i++)
        all[n++] = (struct sock_filter)BPF_JUMP(BPF_JMP | BPF_JEQ | BPF_K, ports[i], IS, NEXT);
    for (size_t i = 0; i < n; i++) { /* places become distances */
        all[i].jt = (uint8_t)(all[i].jt >= NOT ? n + all[i].jt - NOT - i - 1 : all[i].jt);
        all[i].jf = (uint8_t)(all[i].jf >= NOT ? n + all[i].jf - NOT - i - 1 : all[i].jf);
    }
    all[n++] = is_not;
    all[n++] = is;
    const struct sock_fprog program = {(unsigned short)n, all};
    /* nothing comes before it is bound */
    fd = socket(AF_PACKET, SOCK_DGRAM | SOCK_CLOEXEC | SOCK_NONBLOCK, 0);
    if (fd < 0)
        return errno;
    /* what goes out is not even copied; a kernel that cannot do that yet has the filter */
    setsockopt(fd, SOL_PACKET, PACKET_IGNORE_OUTGOING, &yes, sizeof yes);
    if (setsockopt(fd, SOL_SOCKET, SO_ATTACH_FILTER, &program, sizeof program) ||
        bind(fd, (struct sockaddr *)&at, sizeof at))
        e = errno;
    return give(fd, e, wire);
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
