#define _GNU_SOURCE
#include "peers.h"

#include <poll.h>
#include <signal.h>
#include <stdlib.h>
#include <string.h>
#include <sys/prctl.h>
#include <sys/socket.h>
#include <sys/un.h>
#include <sys/wait.h>
#include <time.h>
#include <unistd.h>

struct machine {
    pid_t pid;
    int line;
    char log[256 * 1024];
    bool quiet;
    size_t length, seen; /* what machine_expect has passed */
};

/* One emulated machine each, with the real loader for it. */
static const struct {
    const char *cpu, *program, *model, *ram, *option, *loader;
} kinds[] = {
    {"arm64", "qemu-system-aarch64", "cortex-a57", "512", "-bios",
     "/usr/lib/u-boot/qemu_arm64/u-boot.bin"},
    {"arm", "qemu-system-arm", "cortex-a15", "128", "-bios", "/usr/lib/u-boot/qemu_arm/u-boot.bin"},
    {"riscv64", "qemu-system-riscv64", "rv64", "1024", "-kernel",
     "/usr/lib/u-boot/qemu-riscv64_smode/u-boot.bin"},
};

static const char *next_tree, *next_flash, *next_server;
static bool next_keeps;
static const char *next_ethernet; /* in the space */
static unsigned next_port;

void machine_keeps(void) {
    next_keeps = true;
}

void machine_with_server(const char *folder) {
    next_server = folder;
}

void machine_reached_at(unsigned port) {
    next_port = port;
}

void machine_in_space(const char *ethernet) {
    next_ethernet = ethernet;
}

void machine_with(const char *tree, const char *flash) {
    next_tree = tree;
    next_flash = flash;
}

/* Where its serial line is: a socket of ours, or what somebody else opens. */
static void put_serial(char *to, size_t room, const char *socket_path);

/* A board with a real boot ROM, which reads its first stage from the card. */
static void start_card_board(const char *image, const char *socket_path) {
    char drive[4200], serial[200];
    snprintf(drive, sizeof drive, "file=%s,format=raw,if=sd,snapshot=on", image);
    put_serial(serial, sizeof serial, socket_path);
    execlp("qemu-system-arm", "qemu-system-arm", "-M", "orangepi-pc", "-accel", "tcg,thread=single",
           "-display", "none", "-monitor", "none", "-no-reboot", "-drive", drive, "-nic", "none",
           "-serial", serial, (char *)NULL);
    _exit(127);
}

static const char *next_serial;

void machine_speaks_at(const char *serial) {
    next_serial = serial;
}

static void put_serial(char *to, size_t room, const char *socket_path) {
    if (next_serial)
        snprintf(to, room, "%s", next_serial);
    else
        snprintf(to, room, "unix:%s", socket_path);
}

static void start_qemu(const char *cpu, const char *image, const char *device,
                       const char *socket_path) {
    char drive[4200], serial[200], attached[100];
    size_t k = 0;
    if (strcmp(cpu, "card board") == 0)
        start_card_board(image, socket_path);
    while (strcmp(kinds[k].cpu, cpu) != 0)
        k++;
    snprintf(drive, sizeof drive, "file=%s,format=raw,if=none,id=d0,snapshot=%s", image,
             next_keeps ? "off" : "on");
    put_serial(serial, sizeof serial, socket_path);
    snprintf(attached, sizeof attached, "%s,drive=d0", device);
    char flash[4200], network[4200];
    const char *words[40] = {kinds[k].program, "-M",
                             "virt",           "-cpu",
                             kinds[k].model,   "-m",
                             kinds[k].ram,     "-display",
                             "none",           "-monitor",
                             "none",           "-no-reboot",
                             kinds[k].option,  kinds[k].loader,
                             "-drive",         drive,
                             "-device",        attached,
                             "-nic",           "none",
                             "-serial",        serial};
    size_t n = 22;
    if (next_tree) {
        words[n++] = "-dtb";
        words[n++] = next_tree;
    }
    if (next_flash) {
        snprintf(flash, sizeof flash, "if=pflash,unit=1,format=raw,snapshot=on,file=%s",
                 next_flash);
        words[n++] = "-drive";
        words[n++] = flash;
    }
    if (next_server || next_port) {
        if (next_server)
            snprintf(network, sizeof network, "user,id=n0,tftp=%s", next_server);
        else
            snprintf(network, sizeof network, "user,id=n0,hostfwd=tcp:127.0.0.1:%u-:22", next_port);
        words[18] = "-netdev"; /* in place of -nic none */
        words[19] = network;
        words[n++] = "-device";
        words[n++] = "virtio-net-pci,netdev=n0,romfile=";
    }
    if (next_ethernet) {
        static const char tap[] = "tap,id=n0,ifname=t0,script=no,downscript=no";
        snprintf(network, sizeof network, "virtio-net-pci,netdev=n0,romfile=,mac=%s",
                 next_ethernet);
        words[18] = "-netdev";
        words[19] = tap;
        words[n++] = "-device";
        words[n++] = network;
        const char *in[48] = {"ip", "netns", "exec", space_name()};
        memcpy(in + 4, words, n * sizeof *words);
        execvp("ip", (char *const *)(uintptr_t)in);
        _exit(127);
    }
    execvp(words[0], (char *const *)(uintptr_t)words);
    _exit(127);
}

struct machine *machine_start(const char *cpu, const char *image, const char *device) {
    struct sockaddr_un address = {.sun_family = AF_UNIX};
    static unsigned number;
    snprintf(address.sun_path, sizeof address.sun_path, "/tmp/mosaicum-line.%d.%u", getpid(),
             ++number);
    int listener = socket(AF_UNIX, SOCK_STREAM | SOCK_CLOEXEC, 0);
    if (bind(listener, (struct sockaddr *)&address, sizeof address) || listen(listener, 1))
        abort();
    struct machine *m = calloc(1, sizeof *m);
    m->pid = fork();
    if (m->pid == 0) {
        prctl(PR_SET_PDEATHSIG, SIGKILL); /* never outlives a test that was stopped */
        start_qemu(cpu, image, device, address.sun_path);
    }
    struct pollfd p = {listener, POLLIN, 0};
    m->line =
        !next_serial && poll(&p, 1, 20000) == 1 ? accept4(listener, NULL, NULL, SOCK_CLOEXEC) : -1;
    next_serial = NULL;
    close(listener);
    unlink(address.sun_path);
    machine_with(NULL, NULL);
    machine_with_server(NULL);
    next_port = 0;
    next_ethernet = NULL;
    next_keeps = false;
    return m;
}

bool machine_expect(struct machine *m, const char *text, int seconds) {
    time_t end = time(NULL) + seconds;
    for (;;) {
        char *found = strstr(m->log + m->seen, text);
        if (found) {
            m->seen = (size_t)(found - m->log) + strlen(text);
            return true;
        }
        struct pollfd p = {m->line, POLLIN, 0};
        if (time(NULL) > end || poll(&p, 1, 1000) < 0)
            break;
        ssize_t n =
            p.revents ? read(m->line, m->log + m->length, sizeof m->log - 1 - m->length) : 0;
        if (p.revents && n <= 0)
            break;
        for (ssize_t i = 0; i < n; i++) /* the log is text: no NUL, no carriage returns */
            if (m->log[m->length + (size_t)i] == 0)
                m->log[m->length + (size_t)i] = '?';
        m->length += (size_t)n;
        m->log[m->length] = 0;
    }
    if (m->quiet)
        return false;
    fprintf(stderr, "\nno \"%s\" on the serial line:\n%s\n", text,
            m->length > 1200 ? m->log + m->length - 1200 : m->log);
    return false;
}

char *machine_until(struct machine *m, const char *mark, int seconds) {
    memmove(m->log, m->log + m->seen, m->length - m->seen + 1); /* what was passed may go */
    m->length -= m->seen;
    m->seen = 0;
    if (!machine_expect(m, mark, seconds))
        return NULL;
    size_t n = m->seen - strlen(mark);
    char *out = malloc(n + 1), *to = out;
    for (size_t i = 0; i < n; i++)
        if (m->log[i] != '\r')
            *to++ = m->log[i];
    *to = 0;
    return out;
}

int machine_line(const struct machine *m) {
    return m->line;
}

void machine_quiet(struct machine *m, bool quiet) {
    m->quiet = quiet;
}

char *machine_until_one(struct machine *m, const char *const *marks, int seconds) {
    size_t from = m->seen;
    time_t end = time(NULL) + seconds;
    while (time(NULL) <= end) {
        struct pollfd p = {m->line, POLLIN, 0};
        poll(&p, 1, 200);
        ssize_t n =
            p.revents ? read(m->line, m->log + m->length, sizeof m->log - 1 - m->length) : 0;
        if (p.revents && n <= 0)
            break;
        for (ssize_t k = 0; k < n; k++)
            if (m->log[m->length + (size_t)k] == 0)
                m->log[m->length + (size_t)k] = '?';
        m->length += (size_t)n;
        m->log[m->length] = 0;
        bool found = false;
        for (const char *const *mark = marks; *mark; mark++)
            found |= strstr(m->log + from, *mark) != NULL;
        if (found)
            break;
    }
    return strdup(m->log + from);
}

void machine_type(struct machine *m, const char *text) {
    if (write(m->line, text, strlen(text)) < 0)
        fprintf(stderr, "cannot type\n");
}

void machine_stop(struct machine *m) {
    kill(m->pid, SIGKILL);
    waitpid(m->pid, NULL, 0);
    if (m->line >= 0)
        close(m->line);
    free(m);
}
