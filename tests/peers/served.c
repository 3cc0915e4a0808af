/* Files and an address for real loaders, and files for clients that others wrote. */
#define _GNU_SOURCE
#include "peers.h"

#include "base/hash.h"

#include <fcntl.h>
#include <signal.h>
#include <stdlib.h>
#include <string.h>
#include <sys/prctl.h>
#include <sys/wait.h>
#include <unistd.h>

#define ETHERNET "52:52:52:52:52:52" /* these loaders have it built in */
#define ANOTHER "52:54:00:12:34:57"
enum { LARGE = 36 << 20, SMALL = 3000001, SECONDS = 120 };

/* ---- our program ---- */

static pid_t serve_start(const char *w, const char *more) {
    pid_t pid = fork();
    if (!pid) {
        char command[1200];
        prctl(PR_SET_PDEATHSIG, SIGKILL);
        dup2(open(path_in(w, "said"), O_CREAT | O_TRUNC | O_WRONLY | O_APPEND, 0644), 2);
        snprintf(command, sizeof command,
                 "exec ip netns exec %s '%s' --no-cache -w '%s' serve --bench '%s/bench.yaml' %s",
                 space_name(), MOSAICUM_PROGRAM, w, w, more);
        execl("/bin/sh", "sh", "-c", command, (char *)NULL);
        _exit(127);
    }
    return pid;
}

static bool has_said(const char *w, const char *words) {
    char *text = read_whole(path_in(w, "said"), NULL);
    bool has = text && strstr(text, words);
    free(text);
    return has;
}

static bool said(const char *w, const char *words) {
    for (int i = 0; i < 1000; i++) {
        if (has_said(w, words))
            return true;
        usleep(20000);
    }
    char *text = read_whole(path_in(w, "said"), NULL);
    fprintf(stderr, "\nit never said: %s\n%s\n", words, text ? text : "");
    free(text);
    return false;
}

static void serve_end(pid_t pid) {
    int status;
    kill(pid, SIGINT);
    waitpid(pid, &status, 0);
    CU_ASSERT(WIFEXITED(status) && WEXITSTATUS(status) == 0);
}

static void put_bench(const char *w, const char *ethernet) {
    char text[200];
    snprintf(text, sizeof text,
             "mosaicum: 1\nunits: {one: {board: curlew, network: t0, ethernet: \"%s\"}}\n",
             ethernet);
    write_text(path_in(w, "bench.yaml"), text);
}

/* The demo's board with a way to start from a server, and files for when it runs. */
static const char *workspace(void) {
    const char *w = keep(test_folder("served"));
    copy_demo(w);
    put_bench(w, ETHERNET);
    CU_ASSERT_TRUE_FATAL(runs(
        0,
        "cd '%s' && head -c %d /dev/urandom > large && head -c %d /dev/urandom > small && printf "
        "'serve: {large: large, small: small}\\n' >> boards/curlew.yaml && sed -i 's/^boot:$/&\\n  "
        "network: {automatic: yes}/' boards/curlew.yaml && '%s' --no-cache -q build",
        w, LARGE, SMALL, MOSAICUM_PROGRAM));
    return w;
}

/* ---- loaders ---- */

static struct machine *at_prompt(const char *w, const char *cpu, const char *ethernet) {
    machine_in_space(ethernet);
    struct machine *m = machine_start(cpu, path_in(w, "out/curlew/card.img"), "virtio-blk-pci");
    bool ok = machine_expect(m, "autoboot", 60);
    machine_type(m, "\003\003");
    machine_type(m, "\recho sy''nc\r");
    CU_ASSERT_TRUE(ok && machine_expect(m, "\nsync", 30) && machine_expect(m, "\n=> ", 30));
    return m;
}

static uint32_t crc_of(const char *path) {
    size_t n;
    char *bytes = read_whole(path, &n);
    uint32_t crc = mos_crc32(0, bytes, n);
    free(bytes);
    return crc;
}

/* It fetches the file, and its own sum of it is ours. */
static bool loader_fetches(struct machine *m, const char *address, const char *name, unsigned block,
                           unsigned window, uint32_t crc) {
    char text[300], sum[20];
    snprintf(
        text, sizeof text,
        "setenv tftpblocksize %u; setenv tftpwindowsize %u; setenv filesize; tftpboot %s %s && "
        "crc32 %s ${filesize}; echo en''ded\r",
        block, window, address, name, address);
    snprintf(sum, sizeof sum, "==> %08x", crc);
    machine_type(m, text);
    return machine_expect(m, sum, SECONDS) && machine_expect(m, "\nended", 10);
}

static void loaders_fetch(void) {
    static const char proof[] = "files and an address for real loaders (TFTP, DHCP)";
    static const unsigned blocks[] = {512, 1024, 1300, 1468}, windows[] = {1, 8};
    unsigned runs_done = 0, good = 0, others = 0, whole_ones = 0;
    if (!space_start(proof, "192.0.2.1/24"))
        return;
    const char *w = workspace();
    uint32_t large = crc_of(path_in(w, "large")), small = crc_of(path_in(w, "small"));
    put_bench(w, ANOTHER);
    pid_t pid = serve_start(w, "curlew --address 192.0.2.17");
    CU_ASSERT_TRUE(said(w, "Serving at 192.0.2.1 (t0)"));
    struct machine *m = at_prompt(w, "arm64", ETHERNET);
    machine_type(m, "setenv autoload no; setenv netretry no; dhcp\r");
    CU_ASSERT_TRUE(
        said(w, ETHERNET " asks for an address and gets none here: the board is " ANOTHER));
    CU_ASSERT_TRUE(said(w, "The cable is connected"));
    bool guest = machine_expect(m, "BOOTP broadcast 4", 60);
    serve_end(pid);
    put_bench(w, ETHERNET);
    pid = serve_start(w, "curlew --address 192.0.2.17");
    CU_ASSERT_TRUE(said(w, "and 192.0.2.17 for the board by DHCP"));
    machine_type(m, "\003\003\r");
    machine_type(m, "dhcp\r");
    CU_ASSERT_TRUE(machine_expect(m, "bound to address 192.0.2.17", 30));
    CU_ASSERT_TRUE(said(w, "The board (" ETHERNET ") has the address 192.0.2.17"));
    for (size_t b = 0; b < 4; b++)
        for (size_t k = 0; k < 2; k++, runs_done++) {
            /* 36 MiB are more than 65,535 blocks of 512 bytes */
            bool whole = peers_all() || (!b && k) || (b == 3 && !k);
            whole_ones += whole;
            good += loader_fetches(m, "0x44000000", whole ? "curlew/large" : "small", blocks[b],
                                   windows[k], whole ? large : small);
        }
    CU_ASSERT_TRUE(said(w, "curlew (192.0.2.17) has large: 36.0 MiB"));
    machine_type(m, "tftpboot 0x44000000 smal; echo en''ded\r");
    CU_ASSERT_TRUE(machine_expect(m, "there is no such file here", 30) &&
                   machine_expect(m, "\nended", 10));
    CU_ASSERT_TRUE(said(w, "there is small"));
    /* the script that it is told of starts it */
    machine_type(m, "setenv autoload yes; dhcp ${scriptaddr} && source ${scriptaddr}\r");
    CU_ASSERT_TRUE(machine_expect(m, "stand-in kernel: started", 60) &&
                   machine_expect(m, "model: Saltmarsh Curlew tide gauge", 20));
    machine_stop(m);
    static const struct {
        const char *cpu, *address;
    } more[] = {{"arm", "0x42000000"}, {"riscv64", "0x84000000"}};
    for (size_t i = 0; i < 2; i++) {
        m = at_prompt(w, more[i].cpu, ETHERNET);
        machine_type(m, "pci enum; virtio scan; setenv autoload no; dhcp\r");
        others += machine_expect(m, "bound to address 192.0.2.17", 30) &&
                  loader_fetches(m, more[i].address, "curlew/small", 1468, 8, small);
        machine_stop(m);
    }
    serve_end(pid);
    CU_ASSERT_FALSE(has_said(w, "drops it") || has_said(w, "looks for"));
    space_end();
    remove_folder(w);
    CU_ASSERT(guest && good == runs_done && others == 2);
    proved(
        proof,
        "%u of %u fetched whole by the arm64 loader (blocks of 512, 1024, 1300, 1468, windows of 1 "
        "and 8; %u of them 36 MiB, which are 73,728 blocks of 512); %u of 2 others; it starts by "
        "what DHCP names; a guest gets nothing",
        good, runs_done, whole_ones, others);
}

/* A direct cable: each reset takes carrier and address away. */
static void cables_come_and_go(void) {
    static const char proof[] = "carrier and address lost in the middle of a transfer";
    if (!space_start(proof, "192.0.2.1/24"))
        return;
    const char *w = workspace();
    uint32_t large = crc_of(path_in(w, "large"));
    pid_t pid = serve_start(w, "curlew");
    struct machine *m = at_prompt(w, "arm64", ETHERNET);
    machine_type(m,
                 "setenv ipaddr 192.0.2.17; setenv serverip 192.0.2.1; setenv tftpblocksize 512; "
                 "tftpboot 0x44000000 large && crc32 0x44000000 ${filesize}\r");
    CU_ASSERT_TRUE(machine_expect(m, "####", 30));
    CU_ASSERT_TRUE(runs(0, "ip netns exec %s sh -c 'ip link set t0 down; ip addr flush dev t0'",
                        space_name()));
    CU_ASSERT_TRUE(said(w, "t0 has lost the address 192.0.2.1"));
    CU_ASSERT_TRUE(
        runs(0, "ip netns exec %s sh -c 'ip link set t0 up; ip addr add 192.0.2.1/24 dev t0'",
             space_name()));
    CU_ASSERT_TRUE(said(w, "The address is back"));
    char sum[20];
    snprintf(sum, sizeof sum, "==> %08x", large);
    bool whole = machine_expect(m, sum, SECONDS);
    CU_ASSERT_TRUE(whole);
    machine_stop(m);
    /* an adapter that is pulled out, and plugged in again, is another interface */
    CU_ASSERT_TRUE(runs(0, "ip netns exec %s ip link del t0", space_name()));
    CU_ASSERT_TRUE(said(w, "The network interface is gone"));
    CU_ASSERT_TRUE(runs(0,
                        "ip netns exec %s sh -c 'ip tuntap add t0 mode tap && ip addr add "
                        "192.0.2.1/24 dev t0 && ip link set t0 up'",
                        space_name()));
    m = at_prompt(w, "arm64", ETHERNET);
    machine_type(m, "setenv ipaddr 192.0.2.17; setenv serverip 192.0.2.1\r");
    bool again = loader_fetches(m, "0x44000000", "small", 1468, 1, crc_of(path_in(w, "small")));
    CU_ASSERT_TRUE(again);
    machine_stop(m);
    serve_end(pid);
    CU_ASSERT_FALSE(has_said(w, "drops it") || has_said(w, "looks for"));
    space_end();
    remove_folder(w);
    proved(proof,
           "%s after both came back; %s from an interface that was pulled out and plugged in",
           whole ? "it went on and was whole" : "LOST", again ? "whole" : "LOST");
}

/* ---- what is in the way ---- */

/* A board that looks for another server, and a firewall of this computer that drops what the
 * board asks for: both are said, and gone when they are. */
static void obstacles_are_seen(void) {
    static const char proof[] = "a wrong server, and a firewall of this computer";
    static const struct {
        const char *typed, *said;
    } cases[] = {
        {"setenv serverip 192.0.2.100; tftpboot 0x44000000 small", "looks for 192.0.2.100"},
        {"setenv serverip 192.0.2.1; tftpboot 0x44000000 small",
         "asks by TFTP, and this computer's firewall"},
        {"setenv autoload no; dhcp", "asks by DHCP, and this computer's firewall"}};
    enum { CASES = sizeof cases / sizeof *cases };
    if (!space_start(proof, "192.0.2.1/24"))
        return;
    const char *w = workspace();
    pid_t pid = serve_start(w, "curlew --address 192.0.2.17");
    struct machine *m = at_prompt(w, "arm64", ETHERNET);
    machine_type(m, "setenv ipaddr 192.0.2.17\r");
    bool here = false;
    unsigned good = 0;
    for (size_t i = 0; i < CASES && (i == 0 || here); i++) {
        machine_type(m, cases[i].typed);
        machine_type(m, "\r");
        good += said(w, cases[i].said);
        machine_type(m, "\003");
        CU_ASSERT_TRUE(machine_expect(m, "\n=> ", 30));
        if (i == 0)
            here = runs(0,
                        "ip netns exec %s nft 'add table inet f; add chain inet f in { type filter "
                        "hook input priority 0; policy drop; }'",
                        space_name());
    }
    CU_ASSERT_EQUAL(good, here ? CASES : 1U);
    if (here)
        CU_ASSERT_TRUE(runs(0, "ip netns exec %s nft delete table inet f", space_name()));
    machine_type(m, "dhcp; setenv serverip 192.0.2.1\r");
    CU_ASSERT_TRUE(machine_expect(m, "DHCP client bound to address 192.0.2.17", 60));
    bool whole = loader_fetches(m, "0x44000000", "small", 1468, 1, crc_of(path_in(w, "small")));
    CU_ASSERT_TRUE(whole);
    machine_stop(m);
    serve_end(pid);
    space_end();
    remove_folder(w);
    proved(proof, "%u of %u said; afterwards the file comes %s%s", good, (unsigned)CASES,
           whole ? "whole" : "NOT", here ? "" : " (this kernel has no firewall: one case)");
}

/* ---- clients that others wrote ---- */

static void clients_fetch(void) {
    static const char proof[] = "files for curl and busybox";
    if (!space_start(proof, "192.0.2.1/24"))
        return;
    const char *w = workspace();
    pid_t pid = serve_start(w, "curlew --at 127.0.0.1");
    CU_ASSERT_TRUE(said(w, "Serving at 127.0.0.1 (lo)"));
    static const unsigned blocks[] = {8, 512, 1468, 65464};
    unsigned count = 0;
    for (size_t i = 0; i < 4; i++) {
        const char *file = blocks[i] == 8 ? "out/curlew/main.dtb" : "large";
        const char *name = blocks[i] == 8 ? "main.dtb" : "large";
        count += runs(0,
                      "cd '%s' && ip netns exec %s curl -sS --tftp-blksize %u "
                      "tftp://127.0.0.1/%s -o got && cmp got %s",
                      w, space_name(), blocks[i], name, file);
        count += runs(0,
                      "cd '%s' && rm -f got && ip netns exec %s busybox tftp -g -b %u -r %s -l got "
                      "127.0.0.1 && cmp got %s",
                      w, space_name(), blocks[i] == 8 ? 512 : blocks[i], name, file);
    }
    CU_ASSERT_EQUAL(count, 8);
    /* HTTP: whole, in parts, many at once, gone on with */
    CU_ASSERT_TRUE(runs(
        0,
        "cd '%s' && ip netns exec %s sh -c 'curl -sS http://127.0.0.1/curlew/large -o got && cmp "
        "got "
        "large && curl -sS -r 1000000-1999999 http://127.0.0.1/large -o part && cmp part large 0 "
        "1000000 -n 1000000 && test $(stat -c %%s part) = 1000000 && head -c 5000000 large > rest "
        "&& "
        "curl -sS -C - http://127.0.0.1/large -o rest && cmp rest large && for i in $(seq 24); do "
        "curl "
        "-sS http://127.0.0.1/large -o many.$i & done; wait; for i in $(seq 24); do cmp many.$i "
        "large || "
        "exit 1; done; rm many.*; test $(curl -s -o /dev/null -w %%{http_code} "
        "http://127.0.0.1/mosaicum.yaml) = 404 && test $(curl -s -o /dev/null -w %%{http_code} -T "
        "small "
        "http://127.0.0.1/small) = 405 && ! curl -s -T small tftp://127.0.0.1/small'",
        w, space_name()));
    serve_end(pid);
    CU_ASSERT_FALSE(has_said(w, "drops it") || has_said(w, "looks for"));
    space_end();
    remove_folder(w);
    proved(proof,
           "%u of 8 by TFTP (blocks of 8, 512, 1468, 65464); by HTTP whole, in parts, gone on "
           "with, 24 "
           "at once; nothing is stored",
           count);
}

SUITE(served_suite, {"loaders fetch", loaders_fetch}, {"cables come and go", cables_come_and_go},
      {"obstacles are seen", obstacles_are_seen}, {"clients fetch", clients_fetch});
