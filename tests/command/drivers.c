/* Who serves the nodes of a tree: a kernel with match tables, modules in ramdisk and root, and
 * sources, each tried with what the others lack. */
#include "binaries.h"
#include "support.h"

#include "base/bytes.h"

#include <string.h>

/* An arm64 Image with tables for the named ones. */
static void make_kernel(const char *path, const char *const *names, size_t count) {
    static uint8_t image[65536];
    memset(image, 0, sizeof image);
    mos_put_le32(image, 0x14000010);
    mos_put_le64(image + 16, sizeof image);
    mos_put_le64(image + 24, 10);
    memcpy(image + 56, "ARMd", 4);
    for (size_t i = 0; i < count; i++)
        strcpy((char *)image + 4096 + i * 200 + 64, names[i]);
    mos_put_le32(image + 60000, 0x00041011);
    mos_put_le32(image + 60004, 0x000fffff);
    write_file(path, image, sizeof image);
}

static void make_one_module(const char *path, const char *alias) {
    struct core c;
    char facts[200];
    core_start(&c);
    struct mos_buf b = {.arena = c.ctx.arena};
    int n = snprintf(facts, sizeof facts, "alias=%s", alias);
    make_module(&b, true, facts, (size_t)n + 1);
    write_file(path, b.data, b.length);
    core_end(&c);
}

static const char tree[] =
    "/dts-v1/;\n/ {\n\tcompatible = \"saltmarsh,curlew\";\n\t#address-cells = <1>;\n"
    "\t#size-cells = <1>;\n\taliases { serial0 = &port; mmc0 = &card; };\n"
    "\tmemory@40000000 { device_type = \"memory\"; reg = <0x40000000 0x20000000>; };\n"
    "\tsea: clock { compatible = \"saltmarsh,clock\"; #clock-cells = <0>; };\n"
    "\tpower: supply { compatible = \"saltmarsh,supply\"; };\n"
    "\tbus {\n\t\tcompatible = \"simple-bus\";\n\t\t#address-cells = <1>;\n\t\t#size-cells = "
    "<1>;\n\t\tranges;\n\t\tclocks = <&deep>;\n"
    "\t\tport: serial@9000000 { compatible = \"arm,pl011\", \"arm,primecell\"; reg = <0x9000000 "
    "0x1000>; };\n"
    "\t\tcard: mmc@4020000 { compatible = \"saltmarsh,card\"; reg = <0x4020000 0x1000>; clocks = "
    "<&sea>; vmmc-supply = <&power>; pinctrl-0 = <&lines>; };\n\t};\n"
    "\tpins { compatible = \"saltmarsh,pins\"; lines: card-lines { }; };\n"
    "\tdeep: deep-clock { compatible = \"saltmarsh,deep\"; #clock-cells = <0>; };\n"
    "\toff { compatible = \"saltmarsh,off\"; status = \"disabled\"; };\n};\n";

static const char board[] =
    "mosaicum: 1\nboard: curlew\n"
    "hardware:\n  cpu: arm64\n  console: {port: ttyAMA0}\n"
    "  media: {card: {kind: sd, size: 64 MiB, kernel: mmcblk0, loader: mmc 0}}\n"
    "kernel: {image: kernel, release: 6.1.0%s}\n"
    "pieces: {kernel: {file: pieces/Image, license: MIT}%s}\n"
    "tree: {blobs: {main: tree/curlew.dts}}\n"
    "boot: {via: script, entries: {main: {kernel: kernel, flags: [rootwait], tree: main%s, "
    "arguments: {root: <root>, console: ttyAMA0}}}}\n"
    "layout: {card: {table: {kind: gpt}, regions: {\n"
    "  boot: {number: 1, size: 20 MiB, volume: {kind: fat16, label: BOOT, fills: {b: {made: "
    "boot}}}},\n"
    "  root: {number: 2, size: rest, volume: {kind: ext4, label: root, fills: {all: {folder: "
    "root}}}}}}}\n";

/* A workspace; of the five drivers that root and console need, each lies somewhere. */
static const char *make_workspace(const char *name) {
    const char *w = keep(test_folder(name));
    static const char *const built[] = {"simple-bus", "saltmarsh,clock", "saltmarsh,pins"};
    write_text(path_in(w, "mosaicum.yaml"), "mosaicum: 1\nworkspace: saltmarsh-survey\n");
    write_text(path_in(w, "tree/curlew.dts"), tree);
    write_text(path_in(w, "root/sbin/init"), "#!/bin/sh\n");
    write_text(path_in(w, "pieces/x"), "");
    make_kernel(path_in(w, "pieces/Image"), built, 3);
    write_text(path_in(w, "root/lib/modules/6.1.0/x"), "");
    return w;
}

static void write_board(const char *w, const char *kernel, const char *pieces, const char *entry) {
    char text[4000];
    snprintf(text, sizeof text, board, kernel, pieces, entry);
    write_text(path_in(w, "boards/curlew.yaml"), text);
}

struct step {
    const char *change;    /* a command in the workspace */
    const char *says[3];   /* check's findings have these */
    const char *silent[2]; /* … and not these */
};

static void take_steps(const char *w, const struct step *steps, size_t count) {
    for (size_t i = 0; i < count; i++) {
        struct outcome o = run_shell("cd '%s' && %s && '%s' --no-cache check -v", w,
                                     steps[i].change, MOSAICUM_PROGRAM);
        bool good = true;
        for (size_t k = 0; k < 3 && steps[i].says[k]; k++)
            good &= strstr(o.out, steps[i].says[k]) != NULL;
        for (size_t k = 0; k < 2 && steps[i].silent[k]; k++)
            good &= !strstr(o.out, steps[i].silent[k]);
        CU_ASSERT_TRUE(good);
        if (!good)
            fprintf(stderr, "%zu: %s%s", i, o.out, o.err);
        outcome_free(&o);
    }
}

static void what_root_and_console_need(void) {
    static const struct step steps[] = {
        {"true",
         {"/bus/mmc@4020000, the root's medium card: neither the kernel nor its modules have",
          "/supply, which /bus/mmc@4020000 needs: neither"},
         {"serial@9000000", "/deep-clock"}},
        {"cp card.ko root/lib/modules/6.1.0/",
         {"/bus/mmc@4020000, the root's medium card: its driver is the module card.ko",
          "kernel.needed-early", "/supply, which /bus/mmc@4020000 needs: neither"},
         {"serial@9000000"}},
        {"rm root/lib/modules/6.1.0/card.ko && cp both pieces/Image",
         {"/supply, which /bus/mmc@4020000 needs: neither"},
         {"mmc@4020000, the"}},
        {"cp all pieces/Image", {NULL}, {"kernel.driver-missing", "kernel.needed-early"}},
        {"cp poor pieces/Image",
         {"/clock, which /bus/mmc@4020000 needs", "/pins, which /bus/mmc@4020000 needs"},
         {"/supply"}},
        {"rm pieces/Image && cp none pieces/Image", {NULL}, {"kernel.driver-missing"}},
    };
    static const char *const names[] = {"saltmarsh,card", "simple-bus", "saltmarsh,clock",
                                        "saltmarsh,pins", "saltmarsh,supply"};
    static const char *const poor[] = {"saltmarsh,card", "simple-bus", "saltmarsh,supply"};
    const char *w = make_workspace("early");
    make_one_module(path_in(w, "card.ko"), "of:N*T*Csaltmarsh,cardC*");
    make_kernel(path_in(w, "both"), names, 4);
    make_kernel(path_in(w, "all"), names, 5);
    make_kernel(path_in(w, "poor"), poor, 3);
    make_kernel(path_in(w, "none"), names, 0);
    write_board(w, "", "", "");
    take_steps(w, steps, sizeof steps / sizeof *steps);
}

/* A module of the ramdisk is in time. */
static void ramdisks_bring_modules(void) {
    const char *w = make_workspace("ramdisk");
    static const struct step steps[] = {
        {"true", {"/supply, which"}, {"mmc@4020000, the"}},
        {"cp supply.ko rd/lib/modules/6.1.0/ && (cd rd && find . | cpio --quiet -o -H newc) | "
         "gzip > pieces/rd",
         {NULL},
         {"/supply, which", "mmc@4020000, the"}},
        {"mkdir rd/mods && mv rd/lib/modules/6.1.0/*.ko rd/mods/ && (cd rd && find . | cpio "
         "--quiet "
         "-o -H newc) | gzip > pieces/rd",
         {NULL},
         {"/supply, which", "mmc@4020000, the"}}, /* wherever they lie in it */
        {"echo no ramdisk > pieces/rd", {"drivers of 2 nodes: neither"}, {"/supply, which"}},
    };
    make_one_module(path_in(w, "supply.ko"), "of:N*T*Csaltmarsh,supply");
    write_text(path_in(w, "rd/lib/modules/6.1.0/x"), "");
    make_one_module(path_in(w, "rd/lib/modules/6.1.0/card.ko"), "of:N*T*Csaltmarsh,cardC*");
    make_one_module(path_in(w, "root/lib/modules/6.1.0/card.ko"), "of:N*T*Csaltmarsh,cardC*");
    make_one_module(path_in(w, "root/lib/modules/6.1.0/supply.ko"), "of:N*T*Csaltmarsh,supply");
    CU_ASSERT_TRUE(
        runs(0, "cd '%s/rd' && find . | cpio --quiet -o -H newc | gzip > ../pieces/rd", w));
    write_board(w, "", ", rd: {file: pieces/rd, license: MIT}", ", ramdisk: rd");
    take_steps(w, steps, sizeof steps / sizeof *steps);
}

/* The sources tell the symbol, and what else it needs. */
static void sources_tell_what_to_set(void) {
    const char *w = make_workspace("sources");
    static const struct step steps[] = {
        {"true",
         {"/supply, which /bus/mmc@4020000 needs: its driver is not built (CONFIG_SUPPLY)",
          "Add CONFIG_SUPPLY=y and CONFIG_POWER=y to a fragment: it builds drivers/tide/supply.c.",
          "/bus/mmc@4020000, the root's medium card: neither the kernel nor"}},
        {"truncate -s 17000000 linux/drivers/tide/large.c", /* more than is read */
         {"drivers of 1 node: neither"},
         {"mmc@4020000, the"}},
        {"rm linux/drivers/tide/large.c && echo '{ .compatible = \"saltmarsh,card\" }' > "
         "linux/drivers/tide/card.c",
         {"drivers of 1 node: neither"},
         {"mmc@4020000, the"}}, /* no build file names it */
        {"echo 'obj-$(CONFIG_CARD) += card.o' >> linux/drivers/tide/Makefile && echo CONFIG_CARD=m "
         ">> kernel/gauge.config && cp few pieces/Image",
         {"medium card: its driver is the module drivers/tide/card.ko, which no ramdisk has"}},
        {"cp empty pieces/Image", {"which /bus/mmc@4020000 needs: its driver is not built"}},
        {"sed -i 's/card.o/tide.o\\ntide-$(CONFIG_POWER) += card.o/' linux/drivers/tide/Makefile "
         "&& "
         "echo CONFIG_POWER=y >> kernel/gauge.config",
         {"medium card: its driver is the module drivers/tide/tide.ko, which no ramdisk has",
          "Add CONFIG_CARD=y to a fragment"}},
        {"sed -i 's/.*SUPPLY.*/CONFIG_SUPPLY=y\\nCONFIG_POWER=y/' kernel/gauge.config",
         {NULL},
         {"/supply, which"}},
        {"cp few pieces/Image", /* they would build it in, and this kernel has it not */
         {"drivers of 1 node: neither"},
         {"/supply, which"}},
    };
    static const char *const few[] = {"simple-bus", "saltmarsh,clock", "saltmarsh,pins"};
    make_kernel(path_in(w, "few"), few, 3);
    make_kernel(path_in(w, "empty"), few, 0);
    write_text(
        path_in(w, "linux/Kconfig"),
        "config POWER\n\tbool \"Power\"\nconfig SUPPLY\n\tbool \"Supply\"\n\tdepends on "
        "POWER\nconfig MODULES\n\tdef_bool y\n\tmodules\nconfig CARD\n\ttristate \"Card\"\n");
    write_text(path_in(w, "linux/drivers/Makefile"), "obj-y += tide/\n");
    write_text(path_in(w, "linux/drivers/tide/Makefile"), "obj-$(CONFIG_SUPPLY) += supply.o\n");
    write_text(path_in(w, "linux/drivers/tide/supply.c"),
               "{ .compatible = \"saltmarsh,supply\" }\n");
    write_text(path_in(w, "kernel/gauge.config"), "# CONFIG_SUPPLY is not set\n");
    write_board(w, ", source: linux, config: {fragments: {gauge: kernel/gauge.config}}", "", "");
    take_steps(w, steps, sizeof steps / sizeof *steps);
}

/* What lies behind a bus with a driver of its own waits for that, and for its interrupts. */
static void buses_and_interrupts_count(void) {
    const char *w = make_workspace("buses");
    static const char *const names[] = {"saltmarsh,card", "saltmarsh,clock",  "saltmarsh,supply",
                                        "saltmarsh,pins", "saltmarsh,bridge", "saltmarsh,lines"};
    static const struct step steps[] = {
        {"true",
         {"/bus, which /bus/mmc@4020000 needs: neither",
          "/wires, which /bus/mmc@4020000 needs: neither",
          "/deep-clock, which /bus needs: neither"}},
        {"cp more pieces/Image",
         {"/deep-clock, which /bus needs: neither"},
         {"/wires, which", "/bus, which"}},
        {"sed -i 's/mmc0 = &card;//' tree/curlew.dts",
         {"not proved: the drivers that the root's medium card needs: which node of the tree it "
          "is"},
         {"/bus/mmc@4020000"}},
    };
    make_kernel(path_in(w, "pieces/Image"), names, 4);
    make_kernel(path_in(w, "more"), names, 6);
    CU_ASSERT_TRUE(runs(
        0,
        "cd '%s' && sed -i -e 's/simple-bus/saltmarsh,bridge/' -e 's/pinctrl-0/interrupt-parent = "
        "<\\&wires>; interrupts = <1>; &/' -e 's,^\\tpins,\\twires: wires { compatible = "
        "\"saltmarsh\\,lines\"; interrupt-controller; #interrupt-cells = <1>; };\\n&,' "
        "tree/curlew.dts",
        w));
    write_board(w, "", "", "");
    take_steps(w, steps, sizeof steps / sizeof *steps);
}

/* Modules of which release, when nobody says so?  And a sensor whose driver knows its name only. */
static void what_is_open_stays_open(void) {
    const char *w = make_workspace("open");
    static const char *const names[] = {"saltmarsh,card", "simple-bus", "saltmarsh,clock",
                                        "saltmarsh,pins", "saltmarsh,supply"};
    static const struct step steps[] = {
        {"true", {"/supply, which /bus/mmc@4020000 needs: its driver is the module supply.ko"}},
        {"sed -i 's/, release: 6.1.0//' boards/curlew.yaml && mkdir root/lib/modules/6.1.1",
         {"not proved: drivers of 1 node: neither the kernel"},
         {"/supply, which"}},
        {"printf '/dts-v1/;\\n/plugin/;\\n&{/} { i2c@1 { #address-cells = <1>; #size-cells = <0>; "
         "air@76 { compatible = \"saltmarsh,air\"; reg = <0x76>; }; }; };\\n' > tree/air.dtso && "
         "sed "
         "-i 's,{main: tree/curlew.dts},&\\, overlays: {air: tree/air.dtso},' boards/curlew.yaml "
         "&& rm "
         "-r root/lib/modules/6.1.1",
         {"not proved: drivers of 1 node: neither the kernel"},
         {"tree.no-driver"}},
        {"cp tree/air.dtso was && printf '/dts-v1/;\\n/plugin/;\\n&{/} { net { compatible = "
         "\"saltmarsh,card\"; mdio { phy { compatible = \"saltmarsh,phy\"; }; }; }; };\\n' > "
         "tree/air.dtso",
         {"not proved: drivers of 1 node: neither the kernel"},
         {"tree.no-driver"}},
        {"sed -i 's/ mdio {/ }; mdio-less {/; s/}; }; }; };/}; }; };/' tree/air.dtso && sed -i "
         "'s/mdio-less { phy {/phy {/; s/}; }; };$/}; };/' tree/air.dtso",
         {"/phy (saltmarsh,phy): neither the kernel nor its modules have a driver for it."}},
        {"cp was tree/air.dtso", {"not proved: drivers of 1 node: neither the kernel"}},
        {"mkdir -p linux/drivers && echo 'obj-$(CONFIG_AIR) += air.o' > linux/drivers/Makefile && "
         "printf 'config AIR\\n\\tbool \"Air\"\\n' > linux/Kconfig && sed -i 's/image: "
         "kernel/image: "
         "kernel, source: linux, config: {fragments: {air: air.config}}/' boards/curlew.yaml && : "
         "> "
         "air.config && printf 'struct i2c_device_id ids[] = {\\n\\t{ \"air\", 0 },\\n};\\n' > "
         "linux/drivers/air.c",
         {"/i2c@1/air@76 (saltmarsh,air): its driver is not built (CONFIG_AIR)."}},
    };
    make_kernel(path_in(w, "pieces/Image"), names, 4);
    make_one_module(path_in(w, "root/lib/modules/6.1.0/supply.ko"), "of:N*T*Csaltmarsh,supply");
    write_board(w, "", "", "");
    take_steps(w, steps, sizeof steps / sizeof *steps);
}

/* `show drivers`: every node that is on has a row. */
static void all_nodes_are_shown(void) {
    static const char *const rows[] = {
        "/clock            saltmarsh,clock   built in",
        "/supply           saltmarsh,supply  no driver",
        "/bus              simple-bus        built in",
        "/bus/serial@9000000",
        "/bus/mmc@4020000  saltmarsh,card    module, root  card.ko",
        "Drivers of 7 devices: 4 built in; 1 module, root; 2 no driver",
    };
    const char *w = make_workspace("shown");
    make_one_module(path_in(w, "root/lib/modules/6.1.0/card.ko"), "of:N*T*Csaltmarsh,cardC*");
    write_board(w, "", "", "");
    struct outcome o =
        run_shell("cd '%s' && '%s' show drivers | sed 's/   */  /g'", w, MOSAICUM_PROGRAM);
    struct outcome plain = run_shell("cd '%s' && '%s' show drivers", w, MOSAICUM_PROGRAM);
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++) {
        char squeezed[200];
        size_t n = 0;
        for (const char *p = rows[i]; *p; p++)
            if (!(p[0] == ' ' && p[1] == ' ' && p[2] == ' '))
                squeezed[n++] = *p;
        squeezed[n] = 0;
        CU_ASSERT_TRUE(strstr(o.out, squeezed) != NULL);
        if (!strstr(o.out, squeezed))
            fprintf(stderr, "no %s in\n%s%s", squeezed, plain.out, plain.err);
    }
    CU_ASSERT_FALSE(strstr(o.out, "saltmarsh,off") != NULL);
    outcome_free(&o);
    outcome_free(&plain);
}

/* Of two files with one text each is named with what it makes. */
static void files_explain_what_they_make(void) {
    const char *w = make_workspace("explained");
    make_one_module(path_in(w, "root/lib/modules/6.1.0/card.ko"), "of:N*T*Csaltmarsh,cardC*");
    write_text(path_in(w, "linux/Kconfig"),
               "config MODULES\n\tdef_bool y\n\tmodules\nconfig ALMOST\n\ttristate \"a\"\nconfig "
               "CARD\n\ttristate \"c\"\nconfig CARD_TOO\n\ttristate \"t\"\n");
    write_text(path_in(w, "linux/drivers/Makefile"),
               "obj-$(CONFIG_ALMOST) += almost.o\nobj-$(CONFIG_CARD_TOO) += card.o\n"
               "obj-$(CONFIG_CARD) += card.o\n");
    write_text(path_in(w, "linux/drivers/almost.c"), "{ .compatible = \"saltmarsh,card\" }\n");
    write_text(path_in(w, "linux/drivers/card.c"), "{ .compatible = \"saltmarsh,card\" }\n");
    write_text(path_in(w, "kernel/gauge.config"), "CONFIG_ALMOST=m\nCONFIG_CARD=m\n");
    write_board(w, ", source: linux, config: {fragments: {gauge: kernel/gauge.config}}", "", "");
    struct outcome o = run_shell("cd '%s' && '%s' show drivers | grep mmc@", w, MOSAICUM_PROGRAM);
    /* in a condition that is not understood nobody knows */
    CU_ASSERT_TRUE(runs(0,
                        "cd '%s' && rm -r root/lib/modules && sed -i '1d; 2i ifeq ($(A),$(B))' "
                        "linux/drivers/Makefile && '%s' show drivers | grep 'mmc@.*not known'",
                        w, MOSAICUM_PROGRAM));
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "card.ko  CARD=m\n"));
    if (!strstr(o.out, "card.ko  CARD=m\n"))
        fprintf(stderr, "%s%s", o.out, o.err);
    outcome_free(&o);
}

/* What a kernel says of itself, what is said of it, what its sources make, and what lies in the
 * root are one. */
static void releases_agree(void) {
    const char *w = make_workspace("release");
    static const struct step steps[] = {
        {"printf 'Linux version 6.1.0 (x@y)\\n\\0' > b && dd if=b of=pieces/Image bs=1 seek=50000 "
         "conv=notrunc status=none",
         {NULL},
         {"kernel.release", "kernel.modules-other"}},
        {"sed -i 's/release: 6.1.0/release: 6.1.1/' boards/curlew.yaml",
         {"The kernel is said to be release 6.1.1; its image says that it is 6.1.0.",
          "Set release: 6.1.0", "The kernel is release 6.1.1; region root has modules of 6.1.0."}},
        {"sed -i 's/, release: 6.1.1//' boards/curlew.yaml",
         {NULL},
         {"kernel.release", "kernel.modules-other"}},
        {"mv root/lib/modules/6.1.0 root/lib/modules/6.1.2",
         {"The kernel is release 6.1.0; region root has modules of 6.1.2."}},
        {"mkdir linux && printf 'VERSION = 6\\nPATCHLEVEL = 1\\nSUBLEVEL = 7\\n' > linux/Makefile "
         "&& "
         "printf 'config LOCALVERSION\\n\\tstring \"x\"\\n' > linux/Kconfig && echo "
         "'CONFIG_LOCALVERSION=\"-tern\"' > tern.config && sed -i 's/image: kernel/image: kernel, "
         "source: linux, config: {fragments: {tern: tern.config}}/' boards/curlew.yaml",
         {"WARNING  kernel.release",
          "The kernel is release 6.1.0; its sources and configuration make 6.1.7-tern."}},
        {"sed -i s/7/0/ linux/Makefile && : > tern.config", {NULL}, {"kernel.release"}},
    };
    static const char *const names[] = {"saltmarsh,card", "simple-bus", "saltmarsh,clock",
                                        "saltmarsh,pins", "saltmarsh,supply"};
    make_kernel(path_in(w, "pieces/Image"), names, 5);
    write_board(w, "", "", "");
    CU_ASSERT_TRUE(runs(0,
                        "cd '%s' && chmod 755 root/sbin/init && mkdir root/dev root/proc "
                        "root/sys",
                        w));
    take_steps(w, steps, sizeof steps / sizeof *steps);
}

SUITE(drivers_suite, {"files explain what they make", files_explain_what_they_make},
      {"buses and interrupts count", buses_and_interrupts_count},
      {"what is open stays open", what_is_open_stays_open}, {"releases agree", releases_agree},
      {"what root and console need", what_root_and_console_need},
      {"ramdisks bring modules", ramdisks_bring_modules},
      {"sources tell what to set", sources_tell_what_to_set},
      {"all nodes are shown", all_nodes_are_shown});
