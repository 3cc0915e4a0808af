/* Rules about the chain, case by case: what must be found, and what looks like it and must not. */
#include "support.h"

#include <stdlib.h>
#include <string.h>

/* A small board whose parts can be exchanged, each by a line of its own. */
static const char board[] =
    "mosaicum: 1\nboard: curlew\n%s"
    "hardware:\n  cpu: arm64\n  ram: {main: {start: 0x40000000, sizes: [512 MiB]}}\n"
    "  console: {port: ttyAMA0, node: /serial@9000000, baud: 115200}\n"
    "  media: {card: {kind: sd, size: 128 MiB, kernel: mmcblk0, loader: mmc 0}}\n"
    "pieces:\n  kernel: {file: pieces/Image}\n  first: {file: pieces/first.bin}\n"
    "  other: {file: pieces/other}\n"
    "loader:\n  dialect: u-boot\n%s"
    "tree: {blobs: {main: tree/curlew.dts}}\n"
    "boot:\n%s"
    "  entries:\n    main: {kernel: kernel, tree: main, arguments: {%s, panic: 5}}\n%s"
    "layout:\n  card:\n    table: {kind: gpt}\n    regions:\n%s"
    "      boot: {number: 1, size: 48 MiB, volume: {kind: fat32, label: BOOT, fills: {boot: {made: "
    "boot}%s}}}\n      root: {number: 2, size: 32 MiB, volume: {kind: ext4, label: root, fills: "
    "{base: {folder: root}, system: {made: system}}}}\n";

struct verdict {
    const char *rule;   /* looked for */
    unsigned count;     /* how often it must be found */
    const char *top;    /* NULL: nothing */
    const char *loader; /* below loader: */
    const char *boot;   /* below boot: NULL: via: script */
    const char *arguments;
    const char *entries, *regions, *fills, *inittab;
    const char *home; /* a file below /home of the root; NULL: none */
};

#define VARIABLES(bootcmd, more)                                                                   \
    "  environments: {main: {base: none, size: 16 KiB, values: {bootcmd: '" bootcmd "'" more "}}}" \
    "\n"
#define ORDER(n, bootcmd, more)                                                                    \
    { .rule = "boot.script-order", .count = n, .loader = VARIABLES(bootcmd, more) }
#define CONSOLE(n, value)                                                                          \
    { .rule = "console.disagrees", .count = n, .arguments = "root: <root>, console: " value }
#define STAGES(n, text)                                                                            \
    { .rule = "boot.stages", .count = n, .top = "stages: {" text "}\n" }
#define NETWORK(n, text)                                                                           \
    { .rule = "boot.network", .count = n, .boot = "  network: {" text "}\n" }
#define WAY_IN(n, text)                                                                            \
    { .rule = "console.no-way-in", .count = n, .top = "purpose: bench\n", .inittab = text }

static const struct verdict verdicts[] = {
    ORDER(0, "load mmc 0:1 ${at} kernel; booti ${at}", ", at: \"0x48000000\""),
    ORDER(1, "booti ${at}; load mmc 0:1 ${at} kernel", ", at: \"0x48000000\""),
    ORDER(1, "source 48000000; load mmc 0:1 0x48000000 boot.scr", ""),
    ORDER(0, "booti ${at}", ", at: \"0x48000000\""), /* in flash, perhaps: nobody knows */
    ORDER(1, "run go; run get", ", go: 'booti 48000000', get: 'load mmc 0:1 48000000 kernel'"),
    ORDER(0, "run get; run go", ", go: 'booti 48000000', get: 'load mmc 0:1 48000000 kernel'"),
    ORDER(0, "if load mmc 0:1 48000000 kernel; then booti 48000000; fi", ""),
    ORDER(1, "if true; then booti 48000000; else load mmc 0:1 48000000 kernel; fi", ""),
    ORDER(0, "while true; do booti 48000000; load mmc 0:1 48000000 kernel; done", ""),
    ORDER(1, "echo ${name}; setenv name curlew", ""),
    ORDER(0, "setenv name curlew; echo ${name}", ""),
    ORDER(0, "echo ${filesize}; setenv filesize 1", ""), /* the loader's own */
    ORDER(0, "if test -n \"${name}\"; then true; else setenv name x; fi", ""),
    ORDER(0, "for d in 0 1; do echo ${d}; done", ""),
    ORDER(0, "bootm 48000000#main; tftpboot 49000000 other", ""),
    ORDER(0, "run twice; run twice", ", twice: 'load mmc 0:1 48000000 a; source 48000000'"),

    CONSOLE(0, "<console>"),
    CONSOLE(0, "\"ttyAMA0,115200n8\""),
    CONSOLE(0, "ttyAMA0"),
    CONSOLE(1, "\"ttyAMA0,9600\""),
    CONSOLE(1, "ttyAMA1"),
    CONSOLE(0, "tty0"), /* a screen is no serial line */
    CONSOLE(0, "[ttyS3, \"ttyAMA0,115200\"]"),

    STAGES(0, "first: {piece: first, by: rom}"),
    STAGES(1, "first: {piece: first, by: rom}, lost: {piece: other}"),
    STAGES(1, "first: {piece: first, by: next}, next: {piece: other, by: first}"),
    STAGES(1, "first: {piece: first, by: rom, limit: 16 B}"),
    STAGES(0, "first: {piece: first, by: rom, limit: 4 KiB}"),
    STAGES(1, "first: {piece: first, by: rom, format: parcel}"),
    STAGES(0, "first: {piece: first, by: rom, format: plain}"),
    STAGES(1, "first: {piece: first, by: rom, accepts: [legacy, parcel]}, next: {piece: other, by: "
              "first}"),
    STAGES(0, "first: {piece: first, by: rom, accepts: [legacy, plain]}, next: {piece: other, by: "
              "first}"),
    {.rule = "boot.stages",
     .count = 1,
     .top = "stages: {first: {piece: first, by: rom, from: raw}}\n",
     .regions = "      raw: {at: 1 MiB, size: 64 KiB, piece: other}\n"},
    {.rule = "boot.stages",
     .count = 0,
     .top = "stages: {first: {piece: first, by: rom, from: raw}}\n",
     .regions = "      raw: {at: 1 MiB, size: 64 KiB, stage: first}\n"},

    NETWORK(0, "automatic: yes"),
    NETWORK(0, "address: 10.1.2.3, netmask: 255.255.0.0, server: 10.1.9.9"),
    NETWORK(1, "address: 10.1.2.3, server: 10.1.9.9"),
    NETWORK(0, "address: 10.1.2.3, server: 10.1.9.9, gateway: 10.1.2.1"),
    NETWORK(1, "address: 10.1.2.3, server: 10.1.2.9, gateway: 10.1.3.1"),
    NETWORK(1, "address: 10.1.2.255, server: 10.1.2.9"),
    NETWORK(1, "address: 10.1.2.0, server: 10.1.2.9"),
    NETWORK(1, "address: 10.1.2.3, netmask: 255.0.255.0, server: 10.1.2.9"),
    NETWORK(1, "address: 10.1.2, server: 10.1.2.9"),
    NETWORK(1, "address: 10.1.2.300, server: 10.1.2.9"),
    NETWORK(1, "automatic: yes, address: 10.1.2.3"),
    NETWORK(1, "address: 10.1.2.3"),
    NETWORK(1, "automatic: no"),
    NETWORK(1, "automatic: yes, folder: \"a b; reset\""),

    WAY_IN(1, "gauge::respawn:/usr/bin/gauge\n"),
    WAY_IN(0, "ttyAMA0::respawn:/sbin/getty 115200 ttyAMA0\n"),
    WAY_IN(0, "::askfirst:-/bin/sh\n"),
    {.rule = "console.no-way-in", /* with a key of a user */
     .count = 0,
     .top = "purpose: bench\n",
     .inittab = "gauge::respawn:/usr/bin/gauge\n",
     .home = ".ssh/authorized_keys"},
    {.rule = "console.no-way-in", /* who knows what it starts */
     .count = 0,
     .top = "purpose: bench\n",
     .inittab = "gauge::respawn:/usr/bin/gauge\n",
     .home = "../etc/init.d/start"},
    {.rule = "console.late", .count = 1, .top = "kernel: {config: {start: pieces/config}}\n"},
    WAY_IN(1, "# ttyAMA0::respawn:/sbin/getty 115200 ttyAMA0\n::sysinit:/bin/sh /etc/rc\n"),
    {.rule = "console.no-way-in", .count = 0, .inittab = "gauge::respawn:/usr/bin/gauge\n"},
    {.rule = "console.shared",
     .count = 1,
     .inittab = "ttyAMA0::respawn:/sbin/getty 115200 ttyAMA0\ng::respawn:/bin/gauge "
                "/dev/ttyAMA0\n"},
    {.rule = "console.shared",
     .count = 0,
     .inittab = "ttyAMA0::respawn:/sbin/getty 115200 ttyAMA0\ng::respawn:/bin/gauge "
                "/dev/ttyAMA01\n"},

    {.rule = "boot.unsigned", .count = 1, .loader = "  facts: {locked: yes}\n"},
    {.rule = "boot.unsigned", .count = 0, .loader = "  facts: {locked: no}\n"},
    {.rule = "boot.unsigned",
     .count = 1, /* the script beside the signed parcel */
     .loader = "  facts: {locked: yes}\n",
     .boot = "  via: parcel\n  parcel: {key: keys/mast.pem}\n"},
    {.rule = "boot.unsigned",
     .count = 1,
     .loader = "  facts: {locked: yes}\n",
     .boot = "  via: parcel\n"},

    {.rule = "boot.fallback-same",
     .count = 1,
     .boot = "  tries: 3\n",
     .entries = "    spare: {kernel: kernel, tree: main, arguments: {root: <root>, quiet: 1}}\n"},
    {.rule = "boot.fallback-same",
     .count = 0,
     .boot = "  tries: 3\n",
     .entries = "    spare: {kernel: kernel, tree: main, arguments: {root: <boot>, quiet: 1}}\n"},
    {.rule = "boot.fallback-same",
     .count = 0,
     .boot = "  tries: 3\n",
     .entries = "    spare: {kernel: kernel, arguments: {root: <root>}}\n"},
    {.rule = "boot.fallback-unreachable",
     .count = 0, /* somebody chooses */
     .boot = "  via: menu\n  timeout: 3\n",
     .entries = "    spare: {kernel: kernel, arguments: {root: <root>}}\n"},
    {.rule = "boot.fallback-unreachable",
     .count = 1,
     .entries = "    spare: {kernel: kernel, arguments: {root: <root>}}\n"},

    {.rule = "boot.shadowed",
     .count = 1,
     .loader = VARIABLES("run distro_bootcmd", ", distro_bootcmd: 'true'"),
     .fills = ", old: {folder: old}"},
    {.rule = "boot.shadowed", .count = 0, .fills = ", old: {folder: old}"}, /* it may not search */
    {.rule = "boot.shadowed",
     .count = 0, /* ours is the menu */
     .loader = VARIABLES("run distro_bootcmd", ", distro_bootcmd: 'true'"),
     .boot = "  via: menu\n"},
};

static const char tree[] =
    "/dts-v1/;\n\n/ {\n\tmodel = \"Saltmarsh Curlew tide gauge\";\n\tcompatible = "
    "\"saltmarsh,curlew\";\n\t#address-cells = <1>;\n\t#size-cells = <1>;\n\n\tserial@9000000 "
    "{\n\t\treg = <0x9000000 0x1000>;\n\t};\n};\n";

static const char *text_or(const char *text, const char *otherwise) {
    return text ? text : otherwise;
}

static void make(const char *w, const struct verdict *v) {
    static uint8_t image[4096];
    char text[4096];
    image[17] = 0x20;
    image[24] = 0xa;
    memcpy(image + 56, "ARM\x64", 4);
    snprintf(text, sizeof text, board, text_or(v->top, ""), text_or(v->loader, ""),
             text_or(v->boot, "  via: script\n"), text_or(v->arguments, "root: <root>"),
             text_or(v->entries, ""), text_or(v->regions, ""), text_or(v->fills, ""));
    write_text(path_in(w, "mosaicum.yaml"), "mosaicum: 1\nworkspace: saltmarsh-survey\n");
    write_text(path_in(w, "boards/curlew.yaml"), text);
    write_file(path_in(w, "pieces/Image"), image, sizeof image);
    write_text(path_in(w, "pieces/first.bin"), "stand-in for the first stage of tern64\n");
    write_text(path_in(w, "pieces/other"), "stand-in for something else\n");
    write_text(path_in(w, "tree/curlew.dts"), tree);
    write_text(path_in(w, "old/extlinux/extlinux.conf"), "LABEL old\n  KERNEL /old\n");
    remove_folder(path_in(w, "root"));
    write_text(path_in(w, "pieces/config"), "CONFIG_SERIAL_AMBA_PL011=m\n");
    if (v->home) {
        write_text(path_in(w, "root/home/about"), "a home\n");
        write_text(path_in(w, "root/home/%s", v->home), "something\n");
    }
    write_text(path_in(w, "root/etc/inittab"), text_or(v->inittab, "::askfirst:/bin/sh\n"));
}

static void rules_say_what_they_must_and_no_more(void) {
    const char *w = keep(test_folder("verdicts"));
    CU_ASSERT_TRUE_FATAL(runs(0,
                              "mkdir '%s/keys' && cp '%s/demo/saltmarsh/keys/mast.pem' '%s/keys/'",
                              w, MOSAICUM_SOURCE, w));
    for (size_t i = 0; i < sizeof verdicts / sizeof *verdicts; i++) {
        const struct verdict *v = &verdicts[i];
        int status;
        make(w, v);
        json_t *d = run_json(&status, "-w '%s' check", w), *f;
        size_t k, seen = 0;
        json_array_foreach(json_object_get(d, "findings"), k, f) {
            const char *rule = json_string_value(json_object_get(f, "rule"));
            seen += strcmp(rule, v->rule) == 0;
            CU_ASSERT_STRING_NOT_EQUAL(rule, "board.schema"); /* the case itself is well-formed */
        }
        if (seen != v->count) {
            char *all = json_dumps(d, JSON_INDENT(1));
            fprintf(stderr, "\ncase %zu: %s %zu times, not %u\n%s\n", i, v->rule, seen, v->count,
                    all);
            free(all);
        }
        CU_ASSERT_EQUAL(seen, v->count);
        json_decref(d);
    }
}

SUITE(verdicts_suite,
      {"rules say what they must and no more", rules_say_what_they_must_and_no_more});
