/* Real systems that are started from what was built: busybox, and Debian with systemd, each with a
 * log-in on the serial line. */
#define _GNU_SOURCE
#include "peers.h"

#include <stdlib.h>
#include <string.h>
#include <unistd.h>

static const char stated[] = "acceptance:\n  password-file: password\n  devices: "
                             "[/dev/nvme0n1p2]\n  addresses: [127.0.0.1]\n"
                             "  replies: [127.0.0.1]\n  services: [%s]\n  checks:\n"
                             "    marker: {type: cat /etc/marker, sees: \"tide {} of curlew\"}\n"
                             "    nothing: {type: test -e /nothing, status: 1}\n";

/* The board of the real kernel, with a log-in by name and password; `extra`: shell commands on the
 * root's files before it is built. */
static void make(const char *w, const char *extra, const char *service) {
    char text[800];
    make_log_in_workspace(w);
    write_text(path_in(w, "password"), "low water\n");
    snprintf(text, sizeof text, stated, service);
    write_text(path_in(w, "more"), text);
    CU_ASSERT_TRUE_FATAL(runs(
        0,
        "cd '%s' && echo tide gauge of curlew > files/etc/marker && h=$(openssl passwd -6 'low "
        "water') && echo root:x:0:0:root:/root:/bin/sh > files/etc/passwd && echo root:x:0: > "
        "files/etc/group && echo \"root:$h:19000:0:99999:7:::\" > files/etc/shadow && chmod 600 "
        "files/etc/shadow && mkdir -p files/root && %s && tar --numeric-owner --owner=0 "
        "--group=0 -czf pieces/rootfs.tar.gz -C files . && sed -i -e 's/^  cores: 2/  cores: 1/' "
        "boards/curlew.yaml && sed -i 's/^system:.*/system: {mounts: {root: \\/}, host-name: "
        "curlew}/' boards/curlew.yaml && { grep -q ^system: boards/curlew.yaml || echo 'system: "
        "{mounts: {root: /}, host-name: curlew}' >> boards/curlew.yaml; } && cat more >> "
        "boards/curlew.yaml && '%s' --no-cache -q build curlew",
        w, extra, MOSAICUM_PROGRAM));
}

static void make_busybox(const char *w) {
    make(w,
         "for n in login cat test grep ip ping pidof sed tail date uname sh dmesg ifconfig tty cut "
         "readlink od dd gzip tr base64 ls; do ln -sf busybox files/bin/$n; done && printf "
         "'#!/bin/sh\\nexport PATH=/bin:/sbin\\nmount -t proc proc /proc\\nmount -t sysfs sys "
         "/sys\\nmount -t devtmpfs dev /dev\\nhostname curlew\\nifconfig lo 127.0.0.1\\necho gauge "
         "starts\\n' > files/etc/rcS",
         "init");
}

static void make_systemd(const char *w) {
    static const char init[] = "init=/lib/systemd/systemd";
    char extra[2000];
    snprintf(
        extra, sizeof extra,
        "cp -an '%s/root/.' files/ && cp -a '%s/systemd/lib' '%s/systemd/usr' files/ && rm -rf "
        "files/usr/share/doc files/usr/share/locale files/boot && ln -sf bash files/bin/sh && ln "
        "-sf busybox files/bin/ping && echo curlew > files/etc/hostname && printf 'auth required "
        "pam_unix.so\naccount required pam_unix.so\nsession required pam_unix.so\n' > "
        "files/etc/pam.d/login && : > files/etc/machine-id && mkdir -p files/tmp files/run "
        "files/var/log",
        peers_cache(), peers_cache(), peers_cache());
    make(w, extra, "systemd-journald");
    CU_ASSERT_TRUE_FATAL(/* it takes its time under an emulator */
                         runs(0,
                              "cd '%s' && sed -i 's#flags: .rootwait, ro.#flags: [rootwait, rw, "
                              "\"%s\"]#' "
                              "boards/curlew.yaml && sed -i 's/log-in: {within: 12}/log-in: "
                              "{within: 120}/' "
                              "boards/curlew.yaml && '%s' --no-cache -q build curlew",
                              w, init, MOSAICUM_PROGRAM));
}

void make_system(const char *w, bool systemd) {
    if (systemd)
        make_systemd(w);
    else
        make_busybox(w);
}

struct machine *start_system(const char *w, unsigned port) {
    char serial[100];
    snprintf(serial, sizeof serial, "tcp:127.0.0.1:%u,server=on,wait=on", port);
    machine_speaks_at(serial);
    struct machine *m = machine_start("arm64", path_in(w, "out/curlew/card.img"), "nvme,serial=x");
    usleep(500000);
    return m;
}
