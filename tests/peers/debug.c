/* What a running kernel tells of a tree (register ranges, interrupts, lines, pins, clocks,
 * supplies, links between devices, who waits for ever) against the list of claims of the same tree;
 * then the same for trees that were changed by chance. */
#include "peers.h"

#include <ctype.h>
#include <stdlib.h>
#include <string.h>

enum { MOST = 2048, ALL = 20 };

/* ---- our list ---- */

struct claim {
    char kind[20], number[60], detail[40], of[120], node[120], property[60], name[60];
};

struct facts {
    struct claim claims[MOST];
    size_t claim_count;
    char names[200][2][120]; /* what the kernel calls a device, and its node */
    size_t name_count, checked, wrong;
    char *ends;  /* nodes with endpoints, and those that name interconnects */
    size_t late; /* devices that the kernel has put off */
};

/* "key": "value" behind a place; what is left of the place moves behind it. */
static void field(const char *line, const char *key, char *out, size_t room) {
    char want[40];
    snprintf(want, sizeof want, "\"%s\": \"", key);
    const char *p = strstr(line, want), *from = p ? p + strlen(want) : "";
    snprintf(out, room, "%.*s", (int)strcspn(from, "\""), from);
}

static void read_claims(struct facts *f, const char *tree) {
    struct outcome o = run_shell("'%s' tree claims '%s' --json", MOSAICUM_PROGRAM, tree);
    f->claim_count = 0;
    for (char *p = o.out; (p = strstr(p, "{\"kind\": ")); p++) {
        CU_ASSERT_TRUE_FATAL(f->claim_count < MOST);
        struct claim *c = &f->claims[f->claim_count++];
        char *line = strndup(p, strcspn(p, "\n"));
        field(line, "kind", c->kind, sizeof c->kind);
        field(line, "number", c->number, sizeof c->number);
        field(line, "detail", c->detail, sizeof c->detail);
        field(line, "of", c->of, sizeof c->of);
        field(line, "node", c->node, sizeof c->node);
        field(line, "property", c->property, sizeof c->property);
        field(line, "name", c->name, sizeof c->name);
        free(line);
    }
    CU_ASSERT_TRUE(f->claim_count > 50);
    outcome_free(&o);
    /* a list of its own: the claims name every node, and would excuse every link */
    o = run_shell("'%s' tree find '%s' remote-endpoint; '%s' tree find '%s' interconnects",
                  MOSAICUM_PROGRAM, tree, MOSAICUM_PROGRAM, tree);
    f->ends = o.out;
    o.out = NULL;
    free(o.err);
}

/* ---- what the kernel says ---- */

static const char *node_of(const struct facts *f, const char *name) {
    for (size_t i = 0; i < f->name_count; i++)
        if (strcmp(f->names[i][0], name) == 0)
            return f->names[i][1];
    return NULL;
}

/* Is a node this one, or below it? */
static bool below(const char *node, const char *top) {
    size_t n = strlen(top);
    return strncmp(node, top, n) == 0 && (!node[n] || node[n] == '/');
}

static void verdict(struct facts *f, bool good, const char *what, const char *line) {
    f->checked++;
    f->wrong += !good;
    if (!good)
        fprintf(stderr, "the kernel tells of %s, and no claim: %s\n", what, line);
}

/* "01c17000-01c17fff : 1c17000.mailbox mailbox@1c17000" */
static void iomem(struct facts *f, char *line) {
    unsigned long long from, to;
    char name[100] = "";
    if (sscanf(line, " %llx-%llx : %99s", &from, &to, name) != 3)
        return;
    const char *node = node_of(f, name);
    bool serial = strcmp(name, "serial") == 0; /* as many as its driver uses */
    bool by_node = strchr(name, '@') != NULL;
    if (!node && !serial && !by_node)
        return; /* RAM, and what no tree tells of */
    bool good = false;
    for (size_t i = 0; i < f->claim_count && !good; i++) {
        const struct claim *c = &f->claims[i];
        unsigned long long a, b;
        if (strcmp(c->kind, "registers") != 0 || sscanf(c->number, "0x%llx to 0x%llx", &a, &b) != 2)
            continue;
        const char *last = strrchr(c->node, '/') + 1;
        bool mine = node      ? strcmp(c->node, node) == 0
                    : by_node ? strcmp(last, name) == 0
                              : strncmp(last, "serial@", 7) == 0;
        good = mine && a == from && (serial ? to < b : to + 1 == b);
    }
    verdict(f, good, "registers", line);
}

/* " 35:  0  GICv2  81 Level  1c17000.mailbox" */
static void interrupt(struct facts *f, char *line) {
    char chip[40], form[20], name[60], number[20];
    unsigned long hardware;
    if (sscanf(line, " %*u: %*u %39s %lu %19s %59s", chip, &hardware, form, name) != 4)
        return;
    bool gic = strncmp(chip, "GIC", 3) == 0;
    if (!gic && strcmp(chip, "sun6i-r-intc") != 0)
        return; /* of a line: the pins tell */
    const char *node = node_of(f, strcmp(name, "arm-pmu") == 0 ? "pmu" : name);
    if (gic)
        snprintf(number, sizeof number, "%d %lu", hardware < 32,
                 hardware - (hardware < 32 ? 16 : 32));
    else
        snprintf(number, sizeof number, "0 %lu", hardware);
    bool good = false;
    for (size_t i = 0; i < f->claim_count && !good; i++) {
        const struct claim *c = &f->claims[i];
        bool level = strstr(c->detail, "level"), edge = strstr(c->detail, "edge");
        good = strcmp(c->kind, "interrupt") == 0 && strcmp(c->number, number) == 0 &&
               (!node || strcmp(c->node, node) == 0) &&
               (strcmp(form, "Level") == 0 ? !edge : !level);
    }
    verdict(f, good, "an interrupt", line);
}

/* "pin 4 (PA4): 1c28000.serial (GPIO UNCLAIMED) function uart0 group PA4" */
static void pin(struct facts *f, char *line, const char *controller) {
    char name[20], device[60], function[40];
    if (sscanf(line, "pin %*u (%19[^)]): %59s (GPIO UNCLAIMED) function %39s", name, device,
               function) != 3)
        return;
    const char *node = node_of(f, device), *of = node_of(f, controller);
    bool good = false;
    for (size_t i = 0; i < f->claim_count && !good; i++) {
        const struct claim *c = &f->claims[i];
        good = strcmp(c->kind, "pin") == 0 && strcmp(c->number, name) == 0 &&
               strcmp(c->detail, function) == 0 && node && strcmp(c->node, node) == 0 && of &&
               strcmp(c->of, of) == 0;
    }
    verdict(f, good, "a pin", line);
}

/* " gpio-354 (  |usb0-vbus ) out lo" below "gpiochip1: GPIOs 352-383, parent: BUS/NAME, …" */
static void gpio(struct facts *f, char *line, unsigned first, const char *controller) {
    unsigned global;
    char banked[20], plain[20], name[120] = "";
    if (sscanf(line, " gpio-%u", &global) != 1)
        return;
    snprintf(banked, sizeof banked, "%u %u", (global - first) / 32, (global - first) % 32);
    snprintf(plain, sizeof plain, "%u", global - first);
    const char *of = node_of(f, controller), *dot = strchr(controller, '.');
    if (!of && dot) /* of another bus than the platform's */
        snprintf(name, sizeof name, "%s@%.*s", dot + 1, (int)(dot - controller), controller);
    bool good = false;
    for (size_t i = 0; i < f->claim_count && !good; i++) {
        const struct claim *c = &f->claims[i];
        good = strcmp(c->kind, "line") == 0 &&
               (strcmp(c->number, banked) == 0 || strcmp(c->number, plain) == 0) &&
               (of      ? strcmp(c->of, of) == 0
                : *name ? strcmp(strrchr(c->of, '/') + 1, name) == 0
                        : false);
    }
    verdict(f, good, "a line", line);
}

static bool links(const struct facts *f, const char *from, const char *to) {
    for (size_t i = 0; i < f->claim_count; i++)
        if (*f->claims[i].of && below(f->claims[i].of, from) && below(f->claims[i].node, to))
            return true;
    return false;
}

/* "platform:1c20000.clock--platform:1c28000.serial" */
static void device_link(struct facts *f, char *line) {
    char from[80], to[80];
    if (sscanf(line, "platform:%79[^:]:%79s", from, to) != 2 || strlen(from) < 11)
        return;
    from[strlen(from) - strlen("--platform")] = 0;
    const char *a = node_of(f, from), *b = node_of(f, to);
    if (!a || !b)
        return;
    /* links by endpoints, or by what is no claim */
    bool other = strstr(f->ends, a) && strstr(f->ends, b);
    other |= strstr(f->ends, b) && strstr(from, "dram-controller");
    verdict(f, other || links(f, a, b), "a link", line);
}

/* " NAME  7 7 0  24000000  50000 0 50000 Y  1c28000.serial  bus", and more users of it below */
static void clock_user(struct facts *f, const char *line) {
    static const char *const nobody[] = {"deviceless", "timer", NULL};
    char user[60], name[60];
    const char *behind = strstr(line, "   Y   ");
    behind = behind ? behind + 4 : strstr(line, "   N   ") ? strstr(line, "   N   ") + 4 : line;
    if (sscanf(behind, " %59s %59s", user, name) != 2)
        return;
    for (size_t i = 0; nobody[i]; i++)
        if (strncmp(user, nobody[i], strlen(nobody[i])) == 0)
            return;
    const char *node = node_of(f, user);
    if (!node)
        return;
    bool any = strcmp(name, "no_connection_id") == 0, good = false;
    for (size_t i = 0; i < f->claim_count && !good; i++) {
        const struct claim *c = &f->claims[i];
        good = strcmp(c->kind, "clock") == 0 && strcmp(c->node, node) == 0 &&
               (any || strcmp(c->name, name) == 0);
    }
    verdict(f, good, "a clock", line);
}

/* " tide0  2 1 0 unknown …", and what it feeds below, further in: "tide1 …", "DEVICE-SUPPLY …" */
static void supply(struct facts *f, const char *line, char above[8][60]) {
    char name[60];
    size_t in = strspn(line, " "), depth = in / 3;
    if (!in || depth > 7 || sscanf(line, " %59s", name) != 1)
        return;
    snprintf(above[depth], 60, "%s", name);
    if (!depth || strcmp(above[depth - 1], "regulator-dummy") == 0)
        return;
    bool good = false;
    for (size_t i = 0; i < f->claim_count && !good; i++) {
        const struct claim *c = &f->claims[i];
        const char *of = strrchr(c->of, '/'), *node = strrchr(c->node, '/');
        good = strcmp(c->kind, "supply") == 0 && of && strcmp(of + 1, above[depth - 1]) == 0 &&
               strcmp(node + 1, name) == 0;
    }
    verdict(f, good, "a supply", line);
}

/* "NAME\tREASON": what it waits for is off, or there is no driver for it. */
static void put_off(struct facts *f, const char *line) {
    f->late++;
    verdict(f, strncmp(line, "late\t", 5) == 0, "a device that waits", line);
}

static void learn_name(struct facts *f, char *line) {
    char path[200], driver[200] = "", node[200] = "";
    int n = sscanf(line, "%199s %199s %199s", path, driver, node);
    const char *of = n == 3 ? node : driver, *base = strstr(of, "/base/");
    if (n < 2 || !base || f->name_count == 200)
        return;
    snprintf(f->names[f->name_count][0], 120, "%s", strrchr(path, '/') + 1);
    snprintf(f->names[f->name_count++][1], 120, "%s", base + 5);
}

/* Goes through the kernel's words, part by part. */
static void go_through(struct facts *f, const char *said) {
    char *text = strdup(said), part[100] = "", controller[80] = "", above[8][60] = {""};
    unsigned first = 0;
    f->name_count = f->late = 0;
    for (const char *p = strstr(said, "== drivers"); p && *p; p += strcspn(p, "\n"), p += *p != 0) {
        char *line = strndup(p, strcspn(p, "\n"));
        learn_name(f, line);
        free(line);
    }
    for (char *line = strtok(text, "\n"); line; line = strtok(NULL, "\n")) {
        if (sscanf(line, "== %99s", part) == 1) {
            sscanf(part, "pinctrl/%79[^/]", controller);
            continue;
        }
        if (strcmp(part, "/proc/iomem") == 0)
            iomem(f, line);
        else if (strcmp(part, "/proc/interrupts") == 0)
            interrupt(f, line);
        else if (strcmp(part, "links") == 0)
            device_link(f, line);
        else if (strcmp(part, "clk/clk_summary") == 0)
            clock_user(f, line);
        else if (strcmp(part, "regulator/regulator_summary") == 0)
            supply(f, line, above);
        else if (strcmp(part, "devices_deferred") == 0)
            put_off(f, line);
        else if (strncmp(part, "pinctrl/", 8) == 0)
            pin(f, line, controller);
        else if (strcmp(part, "gpio") == 0 &&
                 sscanf(line, "gpiochip%*u: GPIOs %u-%*u, parent: %*[^/]/%79[^,]", &first,
                        controller) != 2)
            gpio(f, line, first, controller);
    }
    free(text);
}

/* ---- the machine ---- */

static const char init[] =
    "#!/bin/busybox sh\n"
    "b=/bin/busybox\n"
    "$b mount -t proc proc /proc; $b mount -t sysfs sys /sys\n"
    "$b mount -t debugfs debug /sys/kernel/debug\n"
    "cd /sys/kernel/debug\n"
    "for f in /proc/iomem /proc/interrupts gpio pinctrl/*/pinmux-pins clk/clk_summary "
    "regulator/regulator_summary devices_deferred; do\n"
    "  echo == $f; $b cat $f | $b grep -v 'UNCLAIMED) (GPIO UNCLAIMED)'; done\n"
    "echo == links; $b ls /sys/class/devlink\n"
    "echo == drivers; for d in /sys/bus/platform/devices/*; do\n"
    "  echo $d $($b readlink $d/driver) $($b readlink $d/of_node); done\n"
    "echo == end; $b poweroff -f\n";

static void make_ramdisk(const char *w) {
    write_text(path_in(w, "r/init"), init);
    CU_ASSERT_TRUE_FATAL(
        runs(0,
             "cd '%s/r' && chmod 755 init && mkdir -p bin proc sys dev && cp '%s/arm/bin/busybox' "
             "bin/ && find . | cpio -o -H newc --quiet | gzip > ../ramdisk",
             w, peers_cache()));
}

#define MACHINE "-accel tcg,thread=single -display none -monitor none -no-reboot -nic none"

/* What the kernel says on a machine with a tree, NULL: the machine's own; malloc'ed. */
static char *told(const char *w, const char *machine, const char *tree) {
    struct outcome o =
        run_shell("cd '%s' && timeout 300 qemu-system-arm -M %s " MACHINE " -serial stdio -kernel "
                  "'%s'/arm/boot/vmlinuz-* -initrd ramdisk %s%s -append 'console=ttyS0,115200 "
                  "console=ttyAMA0 maxcpus=1 quiet' | tr -d '\\r'",
                  w, machine, peers_cache(), tree ? "-dtb " : "", tree ? tree : "");
    CU_ASSERT_PTR_NOT_NULL_FATAL(strstr(o.out, "== end"));
    char *out = o.out;
    o.out = NULL;
    free(o.err);
    return out;
}

static void compare_with(struct facts *f, const char *w, const char *machine, const char *tree) {
    bool own = strncmp(machine, "virt", 4) == 0; /* the tree that it made, and makes again */
    size_t wrong = f->wrong;
    read_claims(f, tree);
    char *said = told(w, machine, own ? NULL : tree);
    go_through(f, said);
    if (f->wrong != wrong)
        fprintf(stderr, "%s\n", said);
    free(said);
    free(f->ends);
}

/* ---- changes ---- */

static unsigned chance(unsigned *seed, unsigned n) {
    *seed = *seed * 1664525u + 1013904223u;
    return (*seed >> 8) % n;
}

/* Lines that no two of a tree's changes may share; those of ports are left alone. */
static unsigned free_line(unsigned *seed, bool *taken) {
    static const unsigned banks[] = {2, 3, 4, 6}; /* C, D, E and G of the first controller */
    static const unsigned widths[] = {17, 18, 16, 6};
    unsigned bank, line;
    do {
        unsigned k = chance(seed, 4);
        bank = banks[k];
        line = chance(seed, widths[k]);
    } while (taken[bank * 32 + line]);
    taken[bank * 32 + line] = true;
    return bank * 32 + line;
}

/* Is one of the devices made to wait for ever? */
static bool make_changes(const char *path, unsigned seed) {
    static const char *const ports[][2] = {{"serial@1c28400", "uart1-pins"},
                                           {"serial@1c28800", "uart2-pins"},
                                           {"serial@1c28c00", "uart3-pins"}};
    bool taken[256] = {false};
    char text[4096];
    int n = snprintf(text, sizeof text, "/dts-v1/;\n/plugin/;\n");
    seed = seed * 2654435761u + 7;
    n += snprintf(text + n, sizeof text - (size_t)n, "&{/} {\n");
    for (unsigned i = 0, count = 1 + chance(&seed, 4); i < count; i++) {
        unsigned line = free_line(&seed, taken);
        n += snprintf(
            text + n, sizeof text - (size_t)n,
            "tide%u: tide%u { compatible = \"regulator-fixed\"; regulator-name = \"tide%u\"; "
            "regulator-min-microvolt = <3300000>; regulator-max-microvolt = <3300000>; "
            "gpio = <&{/soc/pinctrl@1c20800} %u %u 0>; };\n"
            "ebb%u { compatible = \"regulator-fixed\"; regulator-name = \"ebb%u\"; "
            "regulator-min-microvolt = <1800000>; regulator-max-microvolt = <1800000>; "
            "vin-supply = <&tide%u>; };\n",
            i, i, i, line / 32, line % 32, i, i, chance(&seed, i + 1));
    }
    bool waits = chance(&seed, 2);
    n += snprintf(text + n, sizeof text - (size_t)n,
                  "asleep: asleep { compatible = \"regulator-fixed\"; regulator-name = \"asleep\"; "
                  "status = \"%s\"; regulator-min-microvolt = <3300000>; "
                  "regulator-max-microvolt = <3300000>; };\n"
                  "late { compatible = \"regulator-fixed\"; regulator-name = \"late\"; vin-supply "
                  "= <&asleep>; regulator-min-microvolt = <1800000>; regulator-max-microvolt = "
                  "<1800000>; };\n",
                  waits ? "disabled" : "okay");
    unsigned key = free_line(&seed, taken);
    n += snprintf(text + n, sizeof text - (size_t)n,
                  "keys { compatible = \"gpio-keys\"; bell { label = \"bell\"; linux,code = <30>; "
                  "gpios = <&{/soc/pinctrl@1c20800} %u %u 1>; }; };\n};\n",
                  key / 32, key % 32);
    for (size_t i = 0; i < 3; i++)
        if (chance(&seed, 2))
            n += snprintf(text + n, sizeof text - (size_t)n,
                          "&{/soc/%s} { status = \"okay\"; pinctrl-names = \"default\"; pinctrl-0 "
                          "= <&{/soc/pinctrl@1c20800/%s}>; };\n",
                          ports[i][0], ports[i][1]);
    n += snprintf(text + n, sizeof text - (size_t)n,
                  "&{/soc/mailbox@1c17000} { interrupts = <0 %u 4>; reg = <0x1c17000 0x%x>; };\n"
                  "&{/soc/rtc@1f00000} { interrupts = <0 %u 4>, <0 41 4>; };\n",
                  90 + chance(&seed, 20), 0x400u << chance(&seed, 3), 40);
    write_text(path, text);
    return waits;
}

/* `check` says of a change what the kernel said: somebody waits for what is off, or nobody does. */
static void is_told(const char *w, bool waits) {
    struct outcome o = run_shell("cd '%s' && '%s' --no-cache check", w, MOSAICUM_PROGRAM);
    CU_ASSERT_EQUAL(strstr(o.out, "tree.provider-off") && strstr(o.out, "/late"), waits);
    CU_ASSERT_EQUAL(o.status, waits);
    if (o.status != waits)
        fprintf(stderr, "%s%s", o.out, o.err);
    outcome_free(&o);
}

static void a_kernel_tells_what_is_claimed(void) {
    char *w = strdup(test_folder("told")), tree[4200];
    static struct facts f;
    make_ramdisk(w);
    snprintf(tree, sizeof tree, "%s/base.dtb", w);
    CU_ASSERT_TRUE_FATAL(runs(0, "cp '%s'/arm/usr/lib/linux-image-*/sun8i-h3-orangepi-pc.dtb '%s'",
                              peers_cache(), tree));
    write_text(path_in(w, "mosaicum.yaml"), "mosaicum: 1\nworkspace: saltmarsh-survey\n");
    write_text(path_in(w, "boards/curlew.yaml"),
               "mosaicum: 1\nboard: curlew\npieces: {vendor: {file: base.dtb}}\ntree: {blobs: "
               "{main: {piece: vendor}}, overlays: {ours: change.dtso}}\n");
    compare_with(&f, w, "orangepi-pc", tree);
    CU_ASSERT_TRUE(f.checked > 60);
    CU_ASSERT_EQUAL(f.late, 0);
    size_t plain = f.checked, boards = 1;
    if (peers_all()) { /* the other machine makes its own tree */
        CU_ASSERT_TRUE(runs(
            0,
            "cd '%s' && qemu-system-arm -M virt,dumpdtb=virt.dtb -cpu cortex-a15 -m 512 " MACHINE
            " 2>/dev/null",
            w));
        snprintf(tree, sizeof tree, "%s/virt.dtb", w);
        compare_with(&f, w, "virt -cpu cortex-a15 -m 512", tree);
        boards++;
    }
    size_t changes = peers_all() ? ALL : 1;
    for (unsigned i = 0; i < changes; i++) {
        bool waits = make_changes(path_in(w, "change.dtso"), i);
        struct outcome o = run_shell("cd '%s' && rm -f changed.dtb && '%s' tree apply base.dtb "
                                     "change.dtso -q -o changed.dtb",
                                     w, MOSAICUM_PROGRAM);
        CU_ASSERT_EQUAL(o.status, 0);
        if (o.status)
            fprintf(stderr, "%s%s", o.out, o.err);
        outcome_free(&o);
        snprintf(tree, sizeof tree, "%s/changed.dtb", w);
        size_t before = f.checked;
        compare_with(&f, w, "orangepi-pc", tree);
        CU_ASSERT_TRUE(f.checked >= before + plain); /* what was added is told, too */
        CU_ASSERT_EQUAL(f.late, waits);
        is_told(w, waits);
    }
    CU_ASSERT_EQUAL(f.wrong, 0);
    proved("what a running kernel tells of its tree",
           "%zu facts on %zu machines and %zu changed trees: %zu are no claims of ours", f.checked,
           boards, changes, f.wrong);
    free(w);
}

SUITE(debug_suite, {"a kernel tells what is claimed", a_kernel_tells_what_is_claimed});
