/* What is asked of a board at a prompt: who is there, that nothing is ever written, and what
 * damaged answers come to. */
#include "support.h"

#include "base/text.h"
#include "learning/greeting.h"
#include "learning/linux.h"
#include "link/shell.h"
#include "loaders/loaders.h"

#include <openssl/evp.h>
#include <stdlib.h>
#include <string.h>
#include <zlib.h>

#define MS INT64_C(1000000)
#define SECOND (1000 * MS)

/* ---- who is there ---- */

enum stage { STARTS, COUNTS, AT_PROMPT, KERNEL, AT_NAME, DEAD };

struct made {
    const char *what;
    enum stage stage;     /* at first */
    const char *prompt;   /* of its loader, or its shell */
    int power_s, delay_s; /* until it gets power; of its countdown */
    bool loader_respawns; /* its log-in dies of every ^C, and comes back slowly */
    bool echoes, babbles, is_shell;
    /* what it comes to */
    enum mos_greeting_state state;
    const char *found;
};

struct board {
    const struct made *made;
    enum stage stage;
    struct mos_buf said;
    int64_t now, at;           /* when the stage began */
    unsigned told;             /* lines of the stage */
    size_t typed, into_kernel; /* keys; those into a kernel that starts */
};

static void go(struct board *b, enum stage stage) {
    b->stage = stage;
    b->at = b->now;
    b->told = 0;
    if (stage == AT_PROMPT)
        mos_buf_text(&b->said, b->made->prompt);
}

/* A step of 20 ms. */
static void live(struct board *b) {
    int64_t since = b->now - b->at;
    switch (b->stage) {
    case STARTS:
        if (since < b->made->power_s * SECOND)
            return;
        if (b->told++ < 20)
            mos_buf_printf(&b->said, "Device %u: found\r\n", b->told);
        else
            go(b, b->made->delay_s >= 0 ? COUNTS : KERNEL);
        break;
    case COUNTS:
        if (!b->told++)
            mos_buf_text(&b->said, "Hit any key to stop autoboot:  2");
        else if (since > b->made->delay_s * SECOND)
            go(b, KERNEL);
        break;
    case KERNEL:
        if (!b->told++)
            mos_buf_text(&b->said,
                         "\r\nStarting kernel ...\r\n\r\n[    0.000000] Linux version 6.1\r\n");
        else if (b->told < 200)
            mos_buf_printf(&b->said, "[    %u.0] a driver\r\n", b->told);
        else if (b->told == 200 && b->made->is_shell)
            go(b, AT_PROMPT);
        else if (b->told == 200)
            go(b, AT_NAME);
        break;
    case AT_NAME:
        if (!b->told && since > (b->made->loader_respawns ? 900 * MS : 0)) {
            b->told = 1;
            mos_buf_text(&b->said, "\r\ncurlew login: ");
        }
        break;
    default:
        break;
    }
    if (b->made->babbles)
        mos_buf_text(&b->said, "a wave, and a wave\r\n");
}

static void hear(struct board *b, char key) {
    b->typed++;
    b->into_kernel += b->stage == KERNEL && b->told > 20;
    if (b->made->echoes)
        mos_buf_printf(&b->said, key == 3 ? "^C" : "\r\n");
    if (b->stage == COUNTS) {
        mos_buf_text(&b->said, "\r\n");
        go(b, AT_PROMPT);
    } else if (b->stage == AT_PROMPT && key == 3) {
        mos_buf_printf(&b->said, b->made->is_shell ? "^C\r\n%s" : "<INTERRUPT>\r\n%s",
                       b->made->prompt);
    } else if (b->stage == AT_PROMPT && key == '\r') {
        mos_buf_printf(&b->said, "\r\n%s", b->made->prompt);
    } else if (b->stage == AT_NAME && (key == 3 || key == '\r')) {
        mos_buf_text(&b->said, "\r\n");
        go(b, AT_NAME);
    }
}

static const struct made boards[] = {
    {"a loader at its prompt", AT_PROMPT, "=> ", 0, 0, .state = MOS_GREETING_PROMPT,
     .found = "=> "},
    {"a loader with a prompt of its own", AT_PROMPT, "tide-gauge> ", 0, 0,
     .state = MOS_GREETING_PROMPT, .found = "tide-gauge> "},
    {"a loader that counts down", STARTS, "=> ", 0, 2, .state = MOS_GREETING_PROMPT,
     .found = "=> "},
    {"one that gets its power later", STARTS, "=> ", 40, 2, .state = MOS_GREETING_PROMPT,
     .found = "=> "},
    {"one that counts one second only", STARTS, "=> ", 1, 1, .state = MOS_GREETING_PROMPT,
     .found = "=> "},
    {"a loader that does not wait", STARTS, "=> ", 1, -1, .state = MOS_GREETING_LOG_IN},
    {"a log-in", AT_NAME, "", 0, 0, .state = MOS_GREETING_LOG_IN},
    {"a log-in that comes back slowly", AT_NAME, "", 0, 0, .loader_respawns = true, .echoes = true,
     .state = MOS_GREETING_LOG_IN},
    {"a shell", AT_PROMPT, "~ # ", 0, 0, .is_shell = true, .state = MOS_GREETING_PROMPT,
     .found = "~ # "},
    {"a shell with colours", AT_PROMPT, "\033[?2004h\033[01;32mroot@curlew\033[00m:~# ", 0, 0,
     .is_shell = true, .state = MOS_GREETING_PROMPT, .found = "root@curlew:~# "},
    {"a shell behind the kernel", STARTS, "/ # ", 0, -1, .is_shell = true,
     .state = MOS_GREETING_PROMPT, .found = "/ # "},
    {"nobody", DEAD, "", 0, 0, .state = MOS_GREETING_SILENT},
    {"a program that echoes", DEAD, "", 0, 0, .echoes = true, .state = MOS_GREETING_NOISE},
    {"a program that never stops", DEAD, "", 0, 0, .babbles = true, .state = MOS_GREETING_NOISE},
};

static void boards_are_greeted(void) {
    enum { WITHIN = 120 };
    for (size_t i = 0; i < sizeof boards / sizeof *boards; i++) {
        struct core c;
        struct mos_greeting g;
        core_start(&c);
        struct board b = {
            .made = &boards[i], .stage = boards[i].stage, .said = {.arena = c.ctx.arena}};
        size_t given = 0;
        mos_greeting_begin(&g, c.ctx.arena, "\003", WITHIN * SECOND, 0);
        while (g.state == MOS_GREETING_LISTENS && b.now < 2 * WITHIN * SECOND) {
            live(&b);
            mos_greeting_hear(&g, (const uint8_t *)mos_buf_string(&b.said) + given,
                              b.said.length - given, b.now);
            given = b.said.length;
            for (const char *keys = mos_greeting_next(&g, b.now); *keys; keys++)
                hear(&b, *keys);
            CU_ASSERT(mos_greeting_due(&g, b.now) <= WITHIN * SECOND);
            b.now += 20 * MS;
        }
        bool good = g.state == boards[i].state && b.now <= (WITHIN + 1) * SECOND &&
                    (!boards[i].found || strcmp(g.prompt, boards[i].found) == 0);
        if (!good)
            fprintf(stderr, "\n%s: %d \"%s\" after %d s\n", boards[i].what, (int)g.state, g.prompt,
                    (int)(b.now / SECOND));
        CU_ASSERT(good);
        CU_ASSERT(b.typed < 1000 && !b.into_kernel); /* at most eight keys a second */
        core_end(&c);
    }
}

/* ---- what is asked ---- */

/* Commands that only read, word by word; * is any word. */
static const char *const reads[] = {"version",
                                    "help",
                                    "help fdt",
                                    "help bootm",
                                    "config",
                                    "printenv",
                                    "bdinfo",
                                    "fstypes",
                                    "part types",
                                    "fdt addr ${fdtcontroladdr}",
                                    "fdt print / compatible",
                                    "fdt print / model",
                                    "dm drivers",
                                    "if true; then echo yes; fi",
                                    "mmc list",
                                    "mmc dev * 0",
                                    "mmc info",
                                    "mmc read * 0x7ffffff0 1",
                                    "virtio scan",
                                    "virtio info",
                                    "virtio device *",
                                    "nvme scan",
                                    "nvme info",
                                    "nvme device *",
                                    "scsi scan",
                                    "scsi info",
                                    "scsi device *",
                                    "sf probe 0",
                                    "part list * *",
                                    "fstype * *",
                                    "echo 1*"};

static bool only_reads(const char *command) {
    for (size_t i = 0; i < sizeof reads / sizeof *reads; i++)
        if (mos_glob(reads[i], command, strlen(command), 0))
            return true;
    return false;
}

static const char *const phrases[] = {
    "U-Boot 2023.01 (x)\naarch64-linux-gnu-gcc 12\n",
    "?  - help\nhelp - help\n",
    "mmc - m\nsf - s\nvirtio - v\nnvme - n\nscsi - s\npart - p\nfstype - f\nfstypes - f\nfdt - f\n"
    "bdinfo - b\nprintenv - p\nsaveenv - s\nerase - e\ndm - d\necho - e\nbootm - b\nconfig - c\n"
    "help - h\nunzip - u\n",
    "one: 0 (SD)\ntwo: 1\nthree: 99\nfour: 4294967296\n",
    "Device 0: a\nDevice 1: b\nDevice -1: c\n",
    "loadaddr=0x40200000\nbootcmd=a\nb\nbootdelay=-2\n\nEnvironment size: 40/65532 bytes\n",
    "mmc0 is current device\nswitch to partitions #0, OK\n",
    "... is now current device\n: name\n",
    "Name: x; saveenv\nCapacity: 1 GiB\n",
    "Partition Type: EFI\nPart\t\n  1\t0x800\t0x900\t\"x\n",
    "Partition Type: DOS\nPart\t\n  1\t2048\t5\tid\t0c Boot\n  2\t9\t9\tx\t83\n",
    "fat\n",
    "1 1 1\n",
    "exceeds max(0x40)\n",
    "DRAM bank\n-> start = 0x40000000\n-> size = 0xffffffffffffffff\n",
    "Supported filesystems: fat, ext4\n",
    "Supported partition tables: EFI\n",
    "root_driver\nmmc_blk \n",
    "",
    "\n",
    "=> ",
    "compatible = \"a\", \"b\"\n",
    "compatible = \"",
    "CONFIG_A=y\n\nCONFIG_B=n\n"};

enum { ECHOES = 12 }; /* of the phrases */

/* Answers of every kind to every question: what is asked next only reads, and there is an end. */
static void nothing_is_written(void) {
    uint64_t seed = 19;
    size_t asked = 0;
    for (int run = 0; run < 3000; run++) {
        struct core c;
        struct mos_learned l;
        core_start(&c);
        mos_learned_begin(&l, c.ctx.arena);
        mos_dialect_at(0)->questions->ask(&l, mos_dialect_at(0), "");
        for (size_t i = 0; i < l.questions.count && i < 300; i++) {
            struct mos_asked q = *(struct mos_asked *)mos_vec_at(&l.questions, i);
            struct mos_buf answer = {.arena = c.ctx.arena};
            bool right = only_reads(q.command);
            if (!right)
                fprintf(stderr, "\nit is asked: %s\n", q.command);
            CU_ASSERT(right);
            asked++;
            /* mostly what fits first, so that it goes on */
            size_t first = i < 2 && run % 8 ? (i == 0 ? 0 : 2)
                                            : random_below(&seed, sizeof phrases / sizeof *phrases);
            if (run % 8 == 1 && strncmp(q.command, "echo", 4) == 0)
                first = ECHOES; /* whatever is typed */
            mos_buf_text(&answer, phrases[first]);
            for (uint64_t n = random_below(&seed, 4); n; n--)
                mos_buf_text(&answer,
                             phrases[random_below(&seed, sizeof phrases / sizeof *phrases)]);
            l.next = i + 1;
            q.answer = mos_buf_string(&answer);
            if (q.understand)
                q.understand(&l, &q, q.answer);
        }
        CU_ASSERT(l.questions.count < 300);
        core_end(&c);
    }
    CU_ASSERT(asked > 30000);
}

/* What is compiled in and what is stored are not taken for each other, whatever noise comes. */
static void variables_are_of_somewhere(void) {
    static const struct {
        const char *heard;
        enum mos_variables_are are;
    } cases[] = {
        {"", MOS_VARIABLES_UNKNOWN},
        {"Loading Environment from MMC... OK\nIn: serial\n", MOS_VARIABLES_STORED},
        {"Loading Environment from MMC... OK \n", MOS_VARIABLES_STORED},
        {"Loading Environment from MMC... OJ\n", MOS_VARIABLES_UNKNOWN},
        {"Loading Environment from MMC... O\n", MOS_VARIABLES_UNKNOWN},
        {"Loading Environment from MMC... OOK\n", MOS_VARIABLES_UNKNOWN},
        {"Loading Environment from MMC... \n", MOS_VARIABLES_UNKNOWN},
        {"Loading Environment from MMC", MOS_VARIABLES_UNKNOWN},
        {"Loading Environment from nowhere... OK\n", MOS_VARIABLES_COMPILED},
        {"Loading Environment from Flash... *** Warning - bad CRC, using default environment\n",
         MOS_VARIABLES_COMPILED},
        {"Loading Environment from FAT... Unable to use mmc 0:1...\n", MOS_VARIABLES_COMPILED},
        {"Loading Environment from FAT... Unable to use mmc 0:1...\nLoading Environment from "
         "MMC... OK\n",
         MOS_VARIABLES_STORED},
    };
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        struct core c;
        struct mos_learned l;
        core_start(&c);
        mos_learned_begin(&l, c.ctx.arena);
        mos_dialect_at(0)->questions->ask(&l, mos_dialect_at(0), cases[i].heard);
        if (l.variables_are != cases[i].are)
            fprintf(stderr, "\n%s: %d\n", cases[i].heard, (int)l.variables_are);
        CU_ASSERT_EQUAL(l.variables_are, cases[i].are);
        core_end(&c);
    }
}

/* What a line damages is asked again; what was never on the board is never taken. */
static void answers_agree(void) {
    static const char truth[] = "CONFIG_CMD_FAT - y\nloadaddr=0x40200000\n";
    uint64_t seed = 20;
    size_t right = 0, wrong = 0, runs = 20000;
    struct core c;
    core_start(&c);
    for (size_t run = 0; run < runs; run++) {
        const struct mos_asked q = {.command = "x", .seconds = 3};
        struct mos_answers a = {0};
        unsigned times = 0, silent = 0;
        for (bool settled = false; !settled && times < 9; times++) {
            char came[sizeof truth];
            uint64_t fate = random_below(&seed, 4);
            silent += fate == 0;
            memcpy(came, truth, sizeof came);
            if (fate == 1) /* one bit of one character */
                came[random_below(&seed, sizeof came - 1)] ^= (char)(1 << random_below(&seed, 7));
            settled = mos_learned_settled(&a, c.ctx.arena, &q, fate == 0 ? NULL : came);
        }
        CU_ASSERT(times >= 2 && times <= 4 && silent <= 2 && (a.taken || a.why));
        right += a.taken && strcmp(a.taken, truth) == 0;
        wrong += a.taken && strcmp(a.taken, truth) != 0; /* the same damage twice */
    }
    CU_ASSERT(right > runs / 2 && wrong < runs / 500);
    core_end(&c);
}

/* The commands for a shell are lines of its length, and none of them makes a file. */
static void a_system_is_only_read(void) {
    static const char *const writers[] = {
        " rm ",     "mv ",    "cp ", "tee",    "mount ", "umount", "sysctl",
        "modprobe", "insmod", "of=", "sed -i", "mkdir",  "touch"};
    struct core c;
    struct mos_learned l;
    core_start(&c);
    mos_learned_begin(&l, c.ctx.arena);
    mos_learned_ask_linux(&l, "etc/variables");
    for (size_t i = 0; i < l.questions.count; i++) {
        struct mos_asked q = *(struct mos_asked *)mos_vec_at(&l.questions, i);
        CU_ASSERT(strlen(q.command) <= MOS_SHELL_COMMAND && !strchr(q.command, '\n'));
        for (size_t k = 0; k < sizeof writers / sizeof *writers; k++)
            CU_ASSERT_PTR_NULL(strstr(q.command, writers[k]));
        for (const char *p = q.command; (p = strchr(p, '>')); p++)
            CU_ASSERT(strncmp(p, ">/dev/null", 10) == 0);
        l.next = i + 1;
        q.answer = strncmp(q.command, "for t in", 8) == 0 ? "/bin/base64\n/bin/gzip"
                   : strncmp(q.command, "for b in", 8) == 0
                       ? "disk sda 2048 512 - /x/usb1\npart sda 1 8 16 8:1 tide"
                       : "";
        if (q.understand)
            q.understand(&l, &q, q.answer);
    }
    CU_ASSERT(l.questions.count == 21 && l.media.count == 1);
    core_end(&c);
}

/* ---- files ---- */

/* A file as a board brings it over the line. */
static char *carried(const uint8_t *bytes, size_t length, bool base64, bool packed) {
    uint8_t *out = malloc(length * 2 + 1000);
    size_t n = length;
    memcpy(out, bytes, length);
    if (packed) {
        z_stream z = {.next_in = (Bytef *)(uintptr_t)bytes,
                      .avail_in = (uInt)length,
                      .next_out = out,
                      .avail_out = (uInt)(length * 2 + 1000)};
        CU_ASSERT_EQUAL_FATAL(deflateInit2(&z, 9, Z_DEFLATED, 15 + 16, 8, Z_DEFAULT_STRATEGY),
                              Z_OK);
        CU_ASSERT_EQUAL_FATAL(deflate(&z, Z_FINISH), Z_STREAM_END);
        n = z.total_out;
        deflateEnd(&z);
    }
    char *text = calloc(1, n * 3 + 100), *to = text;
    if (base64)
        EVP_EncodeBlock((unsigned char *)text, out, (int)n);
    for (size_t i = 0; !base64 && i < n; i++)
        to += sprintf(to, "%02x%s", out[i], i % 16 == 15 ? "\n" : "");
    free(out);
    return text;
}

static void bring(struct mos_learned *l, struct mos_arena *arena, const char *tools,
                  const char *answer) {
    mos_learned_begin(l, arena);
    mos_learned_ask_linux(l, "etc/variables");
    for (size_t i = 0; i < l->questions.count; i++) {
        struct mos_asked q = *(struct mos_asked *)mos_vec_at(&l->questions, i);
        bool config = strstr(q.command, "config.gz") != NULL;
        l->next = i + 1;
        if (q.understand && (config || strncmp(q.command, "for t in", 8) == 0))
            q.understand(l, &q, config ? answer : tools);
    }
}

/* Each way brings it whole; one that came damaged is not taken for anything, but where nothing
 * guards it, which is why it is packed wherever that goes. */
static void files_come_whole_or_not(void) {
    static const char *const tools[] = {"", "base64", "gzip", "base64\ngzip"};
    uint64_t seed = 20;
    uint8_t bytes[3000];
    for (size_t i = 0; i < sizeof bytes; i++)
        bytes[i] = (uint8_t)("CONFIG_TIDE=y\n"[random_below(&seed, 14)]);
    for (size_t way = 0; way < 4; way++) {
        struct core c;
        struct mos_learned l;
        char *text = carried(bytes, sizeof bytes, way & 1, way & 2);
        size_t length = strlen(text);
        core_start(&c);
        bring(&l, c.ctx.arena, tools[way], text);
        CU_ASSERT(l.kernel_config.length == sizeof bytes &&
                  memcmp(l.kernel_config.data, bytes, sizeof bytes) == 0 && !l.unknown.count);
        char *nothing = carried(bytes, 0, way & 1, way & 2); /* it has no such file */
        bring(&l, c.ctx.arena, tools[way], nothing);
        CU_ASSERT(!l.kernel_config.length && l.unknown.count == 1 &&
                  strstr(mos_vec_pointer(&l.unknown, 0), "no file"));
        free(nothing);
        /* what proves itself is asked for once, what came damaged again, and all others twice */
        struct mos_answers one = {0}, again = {0};
        const struct mos_asked *file = mos_vec_at(&l.questions, l.questions.count - 1);
        char *damaged = carried(bytes, sizeof bytes - 1, way & 1, way & 2);
        damaged[strlen(damaged) / 2] ^= 4;
        CU_ASSERT_EQUAL(mos_learned_settled(&one, c.ctx.arena, file, text), (way & 2) != 0);
        CU_ASSERT_FALSE(mos_learned_settled(&again, c.ctx.arena, file, damaged));
        CU_ASSERT_EQUAL(mos_learned_settled(&again, c.ctx.arena, file, text), (way & 2) != 0);
        CU_ASSERT(!(way & 2) || (again.taken && strcmp(again.taken, text) == 0));
        free(damaged);
        if (!way) {
            text[1] = 'g'; /* no digit */
            bring(&l, c.ctx.arena, tools[way], text);
            CU_ASSERT(!l.kernel_config.length && l.unknown.count == 1);
        }
        for (int i = 0; way & 2 && i < 300; i++) {
            size_t at = random_below(&seed, length);
            char was = text[at], end = text[length - 1];
            if (i % 3 == 0)
                text[at] = 0; /* cut */
            else
                text[at] = (char)(' ' + random_below(&seed, 90));
            bring(&l, c.ctx.arena, tools[way], text);
            bool whole = l.kernel_config.length == sizeof bytes &&
                         memcmp(l.kernel_config.data, bytes, sizeof bytes) == 0;
            CU_ASSERT(whole || (!l.kernel_config.length && l.unknown.count == 1));
            text[at] = was;
            text[length - 1] = end;
        }
        free(text);
        core_end(&c);
    }
}

SUITE(learning_suite, {"boards are greeted", boards_are_greeted},
      {"nothing is written", nothing_is_written}, {"a system is only read", a_system_is_only_read},
      {"variables are of somewhere", variables_are_of_somewhere}, {"answers agree", answers_agree},
      {"files come whole or not", files_come_whole_or_not});
