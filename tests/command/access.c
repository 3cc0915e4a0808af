/* The first access to a board: who is let in, what it makes for itself, and its network. */
#include "edits.h"

#include <stdlib.h>
#include <string.h>

#define MAIN MOSAICUM_PROGRAM

static const char *first_board(const char *name) {
    const char *w = edits_workspace(name, "access.first-start");
    write_text(path_in(w, "root/usr/share/zoneinfo/Etc/UTC"), "stand-in\n");
    write_text(path_in(w, "root/sbin/ifup"), "stand-in\n");
    write_text(path_in(w, "private/meadow"), "low water at the jetty\n");
    write_text(path_in(w, "private/short"), "tide\n");
    write_text(path_in(w, "keys/setup.pub"), "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5 setup\n");
    return w;
}

/* For rows that add a network with one port. */
#define NETWORK(form, port)                                                                        \
    "s|first-start: inittab|&, network: {form: " form ", ports: {wlan0: {" port "}}}|"

static void what_does_not_fit_is_said(void) {
    static const struct edited rows[] = {
        {"", NULL, NULL, NULL},
        {"s/, first-start: inittab//", "access.first-start", "nothing ends that",
         "Add system: {first-start: inittab}"},
        {"s/setup: .until/root: {until/", "access.first-start", "User root cannot be removed",
         "another user"},
        {"s/mounts: .root: [/]./mounts: {root: {at: \\/, options: [ro]}}/", "access.first-start",
         "mounted read-only", "Remove the option ro"},
        {"s/kind: ext4/kind: squashfs/", "access.first-start", "which is squashfs",
         "Use kind: ext4"},
        {"s/first-start: inittab/first-start: {by: inittab, host-keys: made}/",
         "access.first-start", "no program that makes host keys", "/usr/bin/ssh-keygen"},
        {"s|first-start: inittab|first-start: {by: inittab, host-keys: /usr/sbin/keys}|",
         "access.first-start", "/usr/sbin/keys, which is not in root root", "Set host-keys: made"},
        {"s|first-start: inittab|first-start: {by: inittab, machine-id: /usr/sbin/number}|",
         "access.first-start", "/usr/sbin/number, which is not", "Set machine-id: made"},
        {"s/first-start: inittab/first-start: systemd/", "boot.system-program",
         "The first start is left to systemd", "Set it to inittab"},
        {"s/first-start: inittab/&, time-zone: Etc\\/UTC/", NULL, NULL, NULL},
        {"s/first-start: inittab/&, time-zone: ..\\/..\\/..\\/etc/", "boot.time-zone",
         "is not in root root", "as in Etc/UTC"},
        {NETWORK("interfaces", "address: server"), NULL, NULL, NULL},
        {NETWORK("interfaces", "address: 192.0.2.17/24, gateway: 192.0.2.1"), NULL, NULL, NULL},
        {NETWORK("interfaces", "address: 192.0.2.17"), "access.network",
         "192.0.2.17 is no address with a prefix", "192.0.2.17/24"},
        {NETWORK("interfaces", "address: 192.0.2.300/24"), "access.network", "is no address", ""},
        {NETWORK("interfaces", "address: 192.0.2.17/33"), "access.network", "is no address", ""},
        {NETWORK("interfaces", "address: 192.0.2.255/24"), "access.network",
         "names the subnet itself", "between the first and the last"},
        {NETWORK("interfaces", "address: server, name-servers: [fen]"), "access.network",
         "fen is no address", "as in 192.0.2.1"},
        {NETWORK("networkd", "address: server"), "access.network", "needs systemd-networkd",
         "Add systemd-networkd to the root"},
        {NETWORK("interfaces", "address: server, wireless: {network: meadow}"), "access.network",
         "Wireless on wlan0 needs wpa_supplicant", "Add wpa_supplicant"},
        {NETWORK("interfaces",
                 "address: server, wireless: {network: meadow, secret-file: private/short}"),
         "access.network", "passphrase of wlan0 has 4 characters", "first line of that file"},
        {NETWORK("interfaces", "address: server, wireless: {network: meadow, country: Fen}"),
         "access.network", "Fen is no country", "two capital letters"},
    };
    EACH("first", first_board, rows);
    /* a secret is shown to nobody */
    const char *w = first_board("first");
    edits_make(w, NETWORK("interfaces", "address: server, wireless: {network: meadow, "
                                        "secret-file: private/meadow}"));
    CU_ASSERT_TRUE(runs(0,
                        "! { '%s' --no-cache -w '%s' check -v; '%s' --no-cache -w '%s' show "
                        "all; } 2>&1 | grep 'low water'",
                        MAIN, w, MAIN, w));
}

/* The board's own shell is played by ours, on files that lie elsewhere. */
static void the_end_comes_once(void) {
    for (int command = 0; command < 2; command++) {
        const char *w = first_board("ends");
        write_text(path_in(w, "root/usr/bin/ssh-keygen"), "stand-in\n");
        write_text(path_in(w, "root/etc/passwd"), "root:x:0:0::/root:/bin/sh\n"
                                                  "setxup:x:1002:1002::/home/setxup:/bin/sh\n");
        edits_make(w, "s/setup: ./set.up: {/");
        edits_make(w, command ? "s/first-start: inittab/first-start: {by: inittab, ends: "
                                "command}/; s/locked: yes/&, keys: [keys\\/setup.pub]/"
                              : "s/locked: yes/&, keys: [keys\\/setup.pub]/");
        CU_ASSERT_TRUE_FATAL(runs(
            0,
            "'%s' --no-cache -q -w '%s' build && '%s' -q take '%s/out/curlew/card.img' root "
            "-o '%s/volume' && cd '%s' && mkdir -p board/etc board/home/set.up/.ssh bin && for "
            "f in etc/passwd etc/shadow etc/group etc/first-start etc/machine-id "
            "home/set.up/.ssh/authorized_keys usr/sbin/first-start; do '%s' -q take "
            "out/curlew/card.img 1:$f -o board/x && mkdir -p board/$(dirname $f) && mv "
            "board/x board/$f; done && [ -f board/etc/machine-id ] && ! [ -s "
            "board/etc/machine-id ] && printf '#!/bin/sh\\n[ -e no-keys ] && exit 1\\nmkdir -p "
            "board/etc/ssh; for k in a b; do echo made >board/etc/ssh/ssh_host_${k}_key; done\\n' "
            "> "
            "bin/ssh-keygen && chmod 755 bin/ssh-keygen && sed 's|/etc/|board/etc/|g; "
            "s|rm -f \"|&board|' "
            "board/usr/sbin/first-start > run",
            MAIN, w, MAIN, w, w, w, MAIN));
        /* a first start that fails is no first start */
        CU_ASSERT_TRUE(runs(0,
                            "cd '%s' && export PATH=$PWD/bin:$PATH && touch no-keys && ! sh run "
                            "begin && grep -q new board/etc/first-start && rm no-keys",
                            w));
        CU_ASSERT_TRUE(runs(
            0,
            "cd '%s' && export PATH=$PWD/bin:$PATH && sh run begin && [ $(cat "
            "board/etc/ssh/*_key | grep -c made) = 2 ] && [ $(wc -c < "
            "board/etc/machine-id) = 33 ] && cp board/etc/machine-id before && grep -q ^set[.]up: "
            "board/etc/passwd && cp board/etc/passwd passwd && sh run begin && cmp before "
            "board/etc/machine-id",
            w));
        /* now it is over, or not yet */
        CU_ASSERT_TRUE(runs(command ? 0 : 1, "grep -q ^set[.]up: '%s/board/etc/passwd'", w));
        CU_ASSERT_TRUE(runs(
            0,
            "cd '%s' && sh run end && ! grep -q ^set[.]up: board/etc/passwd board/etc/shadow "
            "board/etc/group && [ ! -e board/etc/first-start ] && [ ! -e "
            "board/home/set.up/.ssh/authorized_keys ] && grep -q ^setxup: board/etc/passwd && grep "
            "-q ^root: board/etc/passwd && [ $(find board -name '*.new' | wc -l) = 0 ] && sh run "
            "begin && grep -c . board/etc/passwd | grep -qx 2",
            w));
    }
}

/* A board, a file that comes of it, and what it must say. */
static void files_are_in_their_programs_form(void) {
    static const struct {
        const char *edit, *path, *says;
    } rows[] = {
        {"", "etc/inittab", "::wait:/usr/sbin/first-start begin\n"},
        {NETWORK("interfaces, by: inittab", "address: 192.0.2.17/20, gateway: 192.0.2.1"),
         "etc/network/interfaces",
         "auto lo\niface lo inet loopback\n\nauto wlan0\niface wlan0 inet static\n"
         "    address 192.0.2.17\n    netmask 255.255.240.0\n    gateway 192.0.2.1\n"},
        {NETWORK("interfaces, by: inittab", "address: server, name-servers: [192.0.2.53]"),
         "etc/resolv.conf", "nameserver 192.0.2.53\n"},
        {NETWORK("interfaces, by: inittab", "address: server"), "etc/inittab",
         "begin\n::wait:/bin/rm -f /run/ifstate /var/run/ifstate\n::wait:/sbin/ifup -a\n"},
        {NETWORK("networkd",
                 "address: 192.0.2.17/24, gateway: 192.0.2.1, name-servers: [192.0.2.53]"),
         "etc/systemd/network/20-wlan0.network",
         "[Match]\nName=wlan0\n\n[Network]\nAddress=192.0.2.17/24\nGateway=192.0.2.1\n"
         "DNS=192.0.2.53\n"},
        {NETWORK("interfaces", "address: server, wireless: {network: tide 7, country: DE, "
                               "secret-file: private/meadow}"),
         "etc/wpa_supplicant/wpa_supplicant-wlan0.conf",
         "country=DE\nnetwork={\n    ssid=746964652037\n"},
        {NETWORK("interfaces",
                 "address: server, wireless: {network: m, secret-file: private/meadow}"),
         "etc/wpa_supplicant/wpa_supplicant-wlan0.conf", "    psk=\"low water at the jetty\"\n"},
        {"s/first-start: inittab/first-start: systemd/", "etc/systemd/system/first-start.service",
         "Before=sysinit.target shutdown.target\nConflicts=shutdown.target\n"},
        {"s|first-start: inittab|&, time-zone: Etc/UTC|", "etc/timezone", "Etc/UTC\n"},
    };
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++) {
        const char *w = first_board("forms");
        edits_make(w, rows[i].edit);
        for (const char *p = "sw"; *p; p++) { /* what the rows need of a root */
            write_text(
                path_in(w, "root/%s", *p == 's' ? "lib/systemd/systemd" : "sbin/wpa_supplicant"),
                "stand-in\n");
        }
        write_text(path_in(w, "root/lib/systemd/systemd-networkd"), "stand-in\n");
        struct outcome o =
            run_shell("'%s' --no-cache -q -w '%s' build && '%s' -q take '%s/out/curlew/card.img' "
                      "'1:%s' -o -",
                      MAIN, w, MAIN, w, rows[i].path);
        if (!strstr(o.out, rows[i].says))
            fprintf(stderr, "\nrow %zu: %s%s\n", i, o.out, o.err);
        CU_ASSERT_PTR_NOT_NULL(strstr(o.out, rows[i].says));
        outcome_free(&o);
    }
}

/* An inittab with runlevels has another form, and its lines are there once. */
static void inittab_keeps_its_form(void) {
    const char *w = first_board("levels");
    write_text(path_in(w, "root/etc/inittab"),
               "id:2:initdefault:\nsi::sysinit:/etc/init.d/rcS\n"
               "frst::bootwait:/usr/sbin/first-start begin"); /* the last line does not end */
    edits_make(w, NETWORK("interfaces, by: inittab", "address: server"));
    CU_ASSERT_TRUE(runs(0,
                        "'%s' --no-cache -q -w '%s' build && cd '%s' && '%s' -q take "
                        "out/curlew/card.img 1:etc/inittab -o t && [ $(grep -c first-start t) = 1 "
                        "] && grep -qx 'netw::bootwait:/sbin/ifup -a' t",
                        MAIN, w, w, MAIN));
}

/* Who gets in by a ramdisk, and by services whose program is not even there. */
static void what_is_weak_does_not_ship(void) {
    static const struct {
        const char *file, *text, *edit, *rule;
    } rows[] = {
        {"early/etc/shadow", "root:*:1::::::\n", "", NULL},
        {"early/etc/shadow", "root::1::::::\n", "", "access.empty-password"},
        {"early/etc/shadow", "tide:$1$salt$qJH7.N4xYta3aEG/dfqo/0:1::::::\n", "",
         "access.default-password"},
        {"early/etc/passwd", "root::0:0::/:/bin/sh\n", "", "access.empty-password"},
        {"early/etc/passwd", "root:x:0:0::/:/bin/sh\n", "", NULL},
        {"root/etc/inetd.conf", "telnet stream tcp nowait root /usr/sbin/telnetd telnetd\n", "",
         "access.open-service"},
        {"root/etc/ssh/sshd_config", "PermitRootLogin yes\n", "", "access.root-remote"},
        {"root/etc/ssh/ssh_host_rsa_key", "stand-in\n", "", "access.host-key"},
        {"root/etc/machine-id", "8f0c2d9a6b7e4c51a3d2f1e0b9c8a7d6\n", "", "access.machine-id"},
    };
    for (int field = 0; field < 2; field++)
        for (size_t i = 0; i < sizeof rows / sizeof *rows; i++) {
            const char *w = edits_workspace("weak", "access.no-shell");
            write_text(path_in(w, "early/init"), "#!/bin/sh\n");
            write_text(path_in(w, "%s", rows[i].file), rows[i].text);
            edits_make(w,
                       "s|^pieces:|&\\n  early: {license: GPL-2.0-only, ramdisk: {folder: "
                       "early}}|; s|tree: main, arg|ramdisk: early, &|; s|^system:.*|system: "
                       "{log-in: inittab, mounts: {root: /}, users: {root: {locked: yes}, tide: "
                       "{number: 1000, keys: [k.pub], password-hash: \"$6$estuary$ubJ56q6mL1SjdJkri"
                       "L42x3MNiDfhvxRDBA8b/Vqjys1tr4YjmyZiJvD.IuPG.YCjM.AnLldxeLlNbvk3ivWXu/"
                       "\"}}}|");
            write_text(path_in(w, "k.pub"), "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5 tide\n");
            if (field)
                edits_make(w, "s/^board: curlew/&\\npurpose: field/");
            struct outcome o = run_shell("'%s' --no-cache -w '%s' check", MAIN, w);
            const char *level = field ? "ERROR  " : "WARNING  ";
            char sign[80];
            snprintf(sign, sizeof sign, "%s%s ", level, rows[i].rule ? rows[i].rule : "access.");
            bool said = strstr(o.out, sign) != NULL;
            if (said != (rows[i].rule != NULL))
                fprintf(stderr, "\nrow %zu, field %d:\n%s%s\n", i, field, o.out, o.err);
            CU_ASSERT_EQUAL(said, rows[i].rule != NULL);
            outcome_free(&o);
        }
}

SUITE(access_suite, {"what does not fit is said", what_does_not_fit_is_said},
      {"the end comes once", the_end_comes_once},
      {"files are in their programs' form", files_are_in_their_programs_form},
      {"an inittab keeps its form", inittab_keeps_its_form},
      {"what is weak does not ship", what_is_weak_does_not_ship});
