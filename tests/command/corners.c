/* What is seldom asked for, once each: a copy of a fixture or of the demo, a change, a command, and
 * what it says. */
#include "support.h"

#include <stdlib.h>
#include <string.h>

struct corner {
    const char *base;   /* a fixture that passes; NULL: the demo with one board, built */
    const char *change; /* shell commands in it; $M is the program */
    int status;         /* of the last of them */
    const char *says[3];
};

#define BOARD " boards/curlew.yaml"
#define REHEARSE "$M -q build; $M rehearse curlew"

static const struct corner corners[] = {
    /* trees */
    {NULL,
     "$M -q take out/curlew/card.img boot:main.dtb -o pieces/main.dtb; sed -i -e 's/main: {base: "
     "tree.curlew.dts}/main: {piece: dtb}/' -e 's/^pieces:/&\\n  dtb: {file: pieces\\/main.dtb}/' "
     "-e '/^  overlays:/,/rs485/d'" BOARD "; $M show curlew tree; $M check | grep -c tree",
     1,
     {"Tree main, overlays applied", "from", "okay    dtb"}},
    {NULL,
     "sed -i -e 's/main: {base: tree.curlew.dts}/main: {piece: kernel}/' -e '/^  "
     "overlays:/,/rs485/d'" BOARD "; $M check",
     1,
     {"tree.syntax"}},
    {NULL,
     "sed -i 's/main: {base: tree.curlew.dts}/main: {base: tree\\/curlew.dts, piece: "
     "kernel}/'" BOARD "; $M check",
     1,
     {"Tree blob main needs either a base or a piece."}},
    {NULL,
     "echo '/dts-v1/; / { tide; };' > overlays/pressure.dtso; $M check",
     1,
     {"Overlay pressure is not written as one."}},
    {NULL,
     "printf '&uartO { };\\n' >> tree/curlew.dts; $M check",
     1,
     {"There is no label uartO in tree/curlew.dts.", "&uart0"}},
    {NULL,
     "sed -i 's/pressure: {file: overlays.pressure.dtso}/pressure: {file: "
     "overlays\\/pressure.dtso, "
     "when: boot}/'" BOARD
     "; printf '&{/} { a: one { }; two { to = <&a 1 &a>; deep { to = <&a>; }; }; };\\n' >> "
     "overlays/pressure.dtso; $M build | grep '^pressure'; $M rehearse curlew",
     0,
     {"pressure.dtbo", "boots"}},
    {"tree.flash-differs",
     "sed -i 's/^.*label = \"log\".*$//' tree/curlew.dts; $M check",
     1,
     {"The tree lists partitions of flash, but not log."}},
    {"tree.flash-differs",
     "sed -i '/log:/d'" BOARD "; $M check",
     1,
     {"The tree has a partition log of flash that the layout does not know."}},

    /* what the loader has */
    {NULL,
     "sed 's/#.*//; /^$/d' loader/defaults.txt | tr '\\n' '\\0' > l; { head -c 3000 /dev/zero; cat "
     "l; "
     "printf '\\0'; head -c 999 /dev/zero; } > loader/defaults.txt; sed -i 's/base: defaults/base: "
     "none/'" BOARD "; $M show curlew env",
     0,
     {"bootdelay"}},
    {NULL,
     "head -c 3000 /dev/zero > loader/defaults.txt; $M check",
     1,
     {"loader/defaults.txt has no variables compiled into it."}},

    /* images */
    {NULL,
     "head -c 5000 /dev/zero | tr '\\0' x > new; $M amend out/curlew/card.img '512 KiB=new' -o "
     "n.img; "
     "dd if=n.img bs=1024 skip=512 count=256 status=none | tr -d '\\0' | cmp - new && echo same",
     0,
     {"512 KiB  the whole region  256.0 KiB  5000 bytes", "same"}},
    {NULL,
     "head -c 1572864 /dev/zero > new; $M -q amend out/curlew/card.img '512 KiB=new' -o n.img && "
     "echo "
     "fits; echo x >> new; $M amend out/curlew/card.img '512 KiB=new' -o n2.img",
     2,
     {"fits", "new has 1572866 B; region 512 KiB has room for 1536 KiB"}},
    {NULL,
     "mkdir r && zstd -qdc pieces/rootfs.tar.zst | tar -C r --exclude ./dev -xf - && mkdir r/dev "
     "&& chmod 700 "
     "r/etc && tar -C r "
     "-c "
     "--owner=0 --group=0 . | zstd -qf -o pieces/rootfs.tar.zst; $M -q build --out o2; $M compare "
     "out/curlew/card.img o2/curlew/card.img",
     1,
     {"owner or mode", "/etc ", "0755 0:0"}},
    {NULL,
     "mkdir r && zstd -qdc pieces/rootfs.tar.zst | tar -C r --exclude ./dev -xf - && mkdir r/dev "
     "&& touch "
     "\"r/etc/$(printf "
     "'tide\\377')\" && truncate -s 8M v && mkfs.ext4 -q -d r v && $M --json inspect --files v > j "
     "&& "
     "iconv -f UTF-8 -t UTF-8 j > /dev/null && grep -o 'tide.*' j",
     0,
     {"tide"}},

    /* what is drawn */
    {NULL,
     "ASAN_OPTIONS=detect_leaks=0 $M show curlew layout --picture none/x.png" /* fonts stay */,
     3,
     {"cannot write none/x.png"}},
    {NULL, "TERM=xterm script -qec \"$M check -v\" /dev/null", 0, {"\033["}},
    {NULL,
     "script -qec \"$M --color never check -v\" /dev/null | grep -c \"$(printf '\\033')\"",
     1,
     {"0"}},
    {NULL,
     "sed -i -e 's/console: {port.*/console: none/; s/, <console>]/]/'" BOARD "; $M check",
     0,
     {"Nothing to complain about: 1 board"}},
    {NULL, "sed -i '/^  console: {port/d'" BOARD "; $M check", 1, {"<console>"}},
    {NULL, "$M --version", 0, {"mosaicum "}},
    {NULL, "$M explain keys", 0, {"format of this file", "hardware"}},

    /* selections and waivers */
    {NULL, "$M check curlew curlew", 0, {"Nothing to complain about: 1 board"}},
    {"access.host-name",
     "sed -i 's/jetty-1/jetty_1/'" BOARD
     "; mkdir waivers; printf 'mosaicum: 1\\nwaivers:\\n  old: {rule: "
     "layout.gap, place: layout, reason: kept}' > waivers/curlew.yaml; $M -q check --accept; cat "
     "waivers/curlew.yaml; $M check",
     0,
     {"reason: kept}\n", "access.host-name"}},
    {"volume.mounts",
     "sed -i 's/mounts: {/mounts: {old: {at: \\/old, what: \\/dev\\/hda1}, /'" BOARD "; $M check",
     1,
     {"/dev/hda1 may be another device at the next start."}},
    {"layout.gap",
     "sed -i 's/data: .*/data: {at: 4 MiB, number: 3, size: 8 MiB, slots: [left, right]}/'" BOARD
     "; $M show curlew layout",
     0,
     {"4 MiB", "12 MiB", "data-right"}},
    {NULL,
     "truncate -s 64M d; printf 'label: gpt\\nstart=40960, size=2048, name=late\\nstart=2048, "
     "size=2048, "
     "name=early\\n' | sfdisk -q d; $M inspect d | tr -s ' ' | grep -n 'early\\|late' | tr '\\n' "
     "'+'",
     0,
     {"3: 2 1 MiB 1 MiB early", "+4: 1 20 MiB 1 MiB late"}},

    /* nothing new, nothing written */
    {NULL,
     "sleep 0.3; export XDG_CACHE_HOME=$PWD/c; $R -q build --out o; $R -q build --out o; stat -c "
     "'%n %i %z' "
     "o/*/* > "
     "a; $R build --out o; stat -c '%n %i %z' o/*/* | cmp a - && echo untouched; touch "
     "o/curlew/main.dtb; "
     "$R -q build --out o; stat -c '%n %i %z' o/*/* | cmp -s a - || echo mended; sed -i "
     "'s/bootdelay: 2/bootdelay: 3/'" BOARD
     "; stat -c '%n %i %z' o/*/* > a; $R -q build --out o; stat -c "
     "'%n %i %z' o/*/* | cmp -s a - || echo changed; $R inspect o/curlew/card.img --files | grep "
     "-c .",
     0,
     {"untouched", "mended", "changed"}},

    {NULL,
     "sleep 0.3; export XDG_CACHE_HOME=$PWD/c; $R build --out o | tail -n +3 | grep -v "
     "'^ledger\\|^Nothing' | "
     "tr -s ' ' "
     "> a; $R "
     "build --out o > b; head -n 1 b; sed '1,2d; /^Nothing to/d; /^$/d' b | tr -s ' ' | diff a - "
     "&& echo "
     "same",
     0,
     {"Nothing has changed since it was built into o/curlew", "same"}},

    /* the second check knows what the first did, also where a fill moves things below etc/ */
    {NULL,
     "mkdir s && printf 'root:%s:1::::::\\n' \"$(openssl passwd -5 -salt tide root)\" > s/shadow "
     "&& tar -C "
     "s -cf pieces/site.tar shadow; sed -i -e 's/^pieces:/&\\n  site: {file: pieces\\/site.tar, "
     "license: "
     "MIT}/' -e 's/^            modules:/            site: {archive: site, to: \\/etc, replaces: "
     "yes}\\n&/'" BOARD
     "; sleep 0.2; export XDG_CACHE_HOME=$PWD/c; for i in 1 2 3; do $R check > $i; done; "
     "cmp 1 2 && cmp 2 3 && cat 3",
     0,
     {"WARNING  access.default-password  curlew"}},

    /* what comes from outside, a file and a folder by their exact names */
    {"access.host-name",
     "printf 'outside: [boards/curlew.yaml, old/]\\n' >> mosaicum.yaml; sed -i "
     "'s/jetty-1/jetty_1/'" BOARD "; $M check",
     0,
     {"board.outside"}},
    {"access.host-name",
     "printf 'outside: [boards/curlew.yam, board]\\n' >> mosaicum.yaml; sed -i "
     "'s/jetty-1/jetty_1/'" BOARD "; $M check",
     1,
     {"access.host-name"}},
    {NULL, "sed -i 's/console: {port.*/console: {baud: 115200}/'" BOARD "; $M check", 1, {"port"}},

    /* several of a kind in one finding */
    {"volume.two-sources",
     "rm -r pieces; mkdir -p x y; for i in 1 2 3 4 5 6; do echo $i > x/f$i; echo no > y/f$i; done; "
     "sed -i "
     "-e '/^pieces/d' -e 's/archive: rootfs/folder: x/' -e 's/archive: site, replaces: "
     "true/folder: "
     "y/'" BOARD "; $M check; rm x/f[3-6]; $M check",
     1,
     {"Fills base and site both bring /f1 to root, with different content.",
      "The same is true of 5 more: /f2, /f3, /f4 …", "The same is true of 1 more: /f2."}},
    {"volume.cannot-hold",
     "rm -r pieces; mkdir x; for i in 1 2 3 4 5 6; do ln -s none x/f$i; done; sed -i -e "
     "'/^pieces/d' -e "
     "'s/archive: rootfs/folder: x/; s/ext4/fat32/'" BOARD "; $M check; rm x/f[3-6]; $M check",
     1,
     {"The same is true of 5 more: f2 (is a symbolic link), f3", ") ….",
      "1 more: f2 (is a symbolic link)."}},

    /* what is a text has tabs, too */
    {"piece.format",
     "printf '<html>\\n\\tno archive\\n' > pieces/page.html; mv pieces/page.html pieces/page.tar; "
     "sed -i "
     "'s/page.html/page.tar/'" BOARD "; $M check",
     1,
     {"a text"}},
    {"piece.format",
     "printf '\\10no archive\\n' > pieces/page.html; mv pieces/page.html pieces/page.tar; sed -i "
     "'s/page.html/page.tar/'" BOARD "; $M check",
     1,
     {"something else"}},

    /* budgets */
    {"budget.exceeded",
     "sed -i 's/2 KiB/1 KiB/'" BOARD "; $M show curlew budgets",
     0,
     {"What compressing would buy", "zstd"}},

    {NULL,
     "printf 'budgets: {both: {of: [rootfs, linux], limit: 1 KiB}, twice: {of: [linux, rootfs], "
     "limit: 1 "
     "KiB}}\\n' >>" BOARD
     "; $M check | tee o; grep -c 'Largest: linux 1.1 KiB, rootfs 794 bytes.' o",
     0,
     {"Budget both is exceeded", "Budget twice is exceeded", "\n2\n"}},

    /* tables */
    {"layout.type-mismatch",
     "sed -i -e 's/kind: gpt/kind: mbr/' -e 's/number: 1,/number: 1, type: 0x0c,/'" BOARD
     "; $M check",
     0,
     {"layout.type-mismatch"}},
    {"layout.type-mismatch",
     "sed -i -e 's/kind: gpt/kind: mbr/' -e 's/number: 1,/number: 1, type: 0x83,/'" BOARD
     "; $M check",
     0,
     {"Nothing to complain about"}},

    /* roots */
    {NULL, "sed -i 's/<root>/\\/dev\\/mmcblk0p2/'" BOARD "; " REHEARSE, 0, {"boots"}},
    {NULL, "sed -i 's/<root>/PARTLABEL=root/'" BOARD "; " REHEARSE, 0, {"boots"}},
    {NULL,
     "sed -i 's/<root>/LABEL=root/'" BOARD "; $M -q check --accept; " REHEARSE,
     1,
     {"only a ramdisk can"}},
    {NULL,
     "sed -i 's/<root>/\\/dev\\/mmcblk0p9/'" BOARD "; $M -q check --accept; " REHEARSE,
     1,
     {"card has no partition 9"}},
    {NULL,
     "sed -i 's/<root>/\\/dev\\/sda2/'" BOARD "; $M -q check --accept; " REHEARSE,
     1,
     {"no medium has that name"}},
    {"boot.root-unknown",
     "sed -i 's/, arguments: {root: <root>}//'" BOARD "; $M check",
     1,
     {"Entry main names no root, and no ramdisk either.", "arguments: {root: <root>}"}},
    {"boot.shadowed",
     "sed -i 's/boot_targets=mmc0/boot_targets=usb0 mmc0/' loader/defaults.txt; sed -i -e "
     "'s/media: {/media: "
     "{stick: {kind: usb, size: 64 MiB, kernel: sda, loader: usb 0}, /' -e 's/^  card:$/  stick: "
     "{table: "
     "{kind: gpt}, regions: {old: {number: 1, size: 48 MiB, volume: {kind: fat32, fills: {extras: "
     "{folder: "
     "extras}}}}}}\\n&/'" BOARD "; $M check",
     0,
     {"boot.shadowed", "old"}},
    {"boot.root-unknown",
     "sed -i 's/flags: .*<root>}/flags: [rdinit]/'" BOARD "; $M check",
     0,
     {"0 errors, 1 warning"}},

    /* menus */
    {NULL,
     "sed -i 's/^  via: script$/  via: menu/'" BOARD
     "; $M -q check --accept; $M -q build; $M rehearse "
     "curlew; $M take out/curlew/card.img boot:extlinux/extlinux.conf -o -",
     0,
     {"LABEL main"}},

    /* what comes closed, what goes where */
    {NULL,
     "sed -i -e 's/^pieces:/&\\n  who: {made-by: {run: [sh, -c, \"readlink "
     "\\/proc\\/$PPID\\/fd\\/[012] > $MOSAICUM_OUT\"]}, license: MIT}/; s/first: {piece: "
     "first/first: "
     "{piece: who/'" BOARD
     "; for c in '<&-' '>&-' '2>&-' '<&- >&- 2>&-'; do eval \"$M -q build --out o "
     "$c\"; dd if=o/curlew/card.img bs=1K skip=32 count=1 status=none | tr -d '\\0' | sort | uniq "
     "-c | "
     "tr -s ' \\n'; rm -r o made; done",
     0,
     {"1 /dev/null", " 3 /dev/null"}},
    {"layout.type-mismatch",
     "sed -i -e 's/kind: gpt/kind: mbr/' -e 's/number: 1,/number: 1, type: 0x0c,/'" BOARD
     "; printf 'pieces:\\n  p1: {made-by: {run: [\"false\"]}, license: MIT}\\n' >>" BOARD
     "; $M build --no-run > o 2>&1; cat o; exit 4",
     4,
     {"WARNING  layout.type-mismatch", "from the content.\n\nmosaicum: Nothing is built"}},
    {NULL,
     "$M -q take out/curlew/card.img boot:kernel -o k && $M -q amend out/curlew/card.img boot:k=k "
     "-o "
     "n.img && $M -q amend out/curlew/card.img 2MiB:bootdelay=1 -o m.img && echo quiet",
     0,
     {"quiet\n"}},
    {NULL,
     "for i in 1 2 3 4 5 6 7 8; do sed -i \"s/^pieces:/&\\n  p$i: {made-by: {run: "
     "['false']}}/\"" BOARD "; done; $M build --no-run; echo; sed -i \"s/^pieces:/&\\n  p9: "
     "{made-by: {run: ['false']}}/\"" BOARD "; $M build --no-run",
     4,
     {"p1 (false makes it, which --no-run forbids)\n\n",
      "p2 (false makes it, which --no-run forbids) and more\n"}},

    /* forms of pieces */
    {NULL,
     "cd pieces && zstd -qd rootfs.tar.zst && xz --format=lzma rootfs.tar && cd .. && sed -i "
     "s/rootfs.tar.zst/rootfs.tar.lzma/" BOARD
     " && $M -q build --out o && cmp o/curlew/card.img out/curlew/card.img && echo same",
     0,
     {"same"}},
    {NULL,
     "sed -i 's/^pieces:/&\\n  x1: {path: a}\\n  x2: {in: linux}\\n  x3: {in: linux, path: "
     "boot\\/Image, file: "
     "a}\\n  x4: {ramdisk: {}, file: a}\\n  x5: {ramdisk: {}, path: a}/'" BOARD
     "; $M check > o; grep -c 'needs either a file, or an archive' o",
     0,
     {"5\n"}},
    {"boot.parcel",
     "head -c 300 pieces/loader.parcel > x; mv x pieces/loader.parcel; $M check",
     1,
     {"Parcel loader: it is cut off or damaged."}},
    {NULL,
     "$M -q take out/curlew/card.img boot:kernel -o k && gzip k && $M -q amend out/curlew/card.img "
     "boot:kernel=k.gz -o n.img && $M -q amend n.img 2MiB:kernel_comp_addr_r=0x50000000 "
     "2MiB:kernel_comp_size=0x1000000 -o m.img; O='--cpu arm64 --ram-start 0x40000000'; $M "
     "rehearse n.img $O "
     "--ram '512 MiB'; $M rehearse m.img $O --ram '512 MiB'",
     0,
     {"kernel_comp_addr_r or kernel_comp_size is not provided!",
      "0x40200000     5.0 KiB  arm64 Image", "m.img boots"}},

    /* what differs, what is left */
    {NULL,
     "truncate -s 2M v; mkdir r; echo low > r/f; mkfs.ext4 -q -d r v; cp v w; debugfs -w -R "
     "'ea_set f "
     "user.tide low' v 2> /dev/null; debugfs -w -R 'ea_set f user.tide max' w 2> /dev/null; cp v "
     "u; debugfs "
     "-w -R 'ea_set f user.tide low' u 2> /dev/null; $M compare v u; $M compare v w",
     1,
     {"Nothing differs.", "user.tide  same names, other values"}},
    {"layout.rest",
     "sed -i -e 's/size: 128 MiB, erase: 4 MiB/size: {at-least: 20 MiB}/; s/number: 1, "
     "size/number: 1, at: 4 "
     "MiB, size/; s/gpt/mbr/'" BOARD "; $M check",
     1,
     {"Nothing of card is left for region root.", "at-least: 20 MiB"}},
    {"access.host-name",
     "sed -i 's/jetty-1/jetty_1/'" BOARD "; $M -q check --accept; sed -i '/^  access/,$d' "
     "waivers/curlew.yaml; printf '  old: {rule: layout.gap, "
     "place: layout, reason: kept}\\n' >> waivers/curlew.yaml; $M -q check --accept; grep -c '^$' "
     "waivers/curlew.yaml; cat waivers/curlew.yaml",
     0,
     {"0\n", "reason: kept}\n", "access.host-name"}},
    {NULL,
     "truncate -s 2M f; mkfs.fat -F12 f > /dev/null; echo x > a.txt; $M -q amend f :a.txt=a.txt -o "
     "x; mv x f; "
     "o=$(grep "
     "-abo 'A       TXT' f | cut -d: -f1); for d in 0,5 1,5 12,31 13,5 15,5 1,0; do m=${d%,*}; cp "
     "f g; printf "
     "\"\\\\$(printf %o $(((m & 7) << 5 | ${d#*,})))\\\\$(printf %o $((46 << 1 | m >> 3)))\" | dd "
     "of=g bs=1 "
     "seek=$((o + 24)) conv=notrunc status=none; $M inspect --files g | grep -o '[0-9-]*$' | tail "
     "-n 1; done "
     "| tr '\\n' +",
     0,
     {"1980-01-01+2026-01-05+2026-12-31+1980-01-01+1980-01-01+1980-01-01+"}},
    {"tree.flash-differs",
     "rm -r tree; sed -i -e '/^tree/d' -e 's/size: 1 MiB, erase/flash-id: f, size: 8 MiB, erase/; "
     "s/448 "
     "KiB}/1472 KiB}\\n      rest: {at: 3 MiB, size: 1 MiB}/'" BOARD
     "; printf 'boot: {entries: {main: {arguments: {mtdparts: <flash>}}}}\\n' >>" BOARD
     "; $M show curlew boot | tail -1",
     0,
     {"mtdparts=f:512k(loader),64k(env),1472k(log),1m@3m(rest)"}},

    {NULL,
     "echo x > k; $M -q amend out/curlew/card.img $(for i in 1 2 3 4 5 6 7 8 9; do echo "
     "boot:z$i=k; done) -o "
     "n.img; $M -q new gull --from n.img; grep 'it holds' boards/gull.yaml",
     0,
     {"# it holds kernel, main.dtb, boot.scr, z1, z2, z3, z4, z5 …\n"}},
    /* traits: nothing in a key is nothing, and who is above a trait by two ways is above it */
    {NULL,
     "sed -i 's/^board: curlew/&\\ntraits: [t]/'" BOARD
     "; mkdir traits; printf 'mosaicum: 1\\ntrait: t\\npieces:\\nhardware:\\n  console:\\n  "
     "media:\\n    "
     "card:\\nlayout:\\n  card:\\n    table:\\n    regions:\\n      boot:\\n' > traits/t.yaml; $M "
     "check",
     0,
     {"Nothing to complain about: 1 board"}},
    {NULL,
     "sed -i -e 's/^board: curlew/&\\ntraits: [a, b]/; s/boot: {number: 1, size: 64 MiB/boot: "
     "{number: 1/'" BOARD "; mkdir traits; S='layout: {card: {regions: {boot: {size:'; printf "
     "'mosaicum: 1\\ntrait: a\\ntraits: "
     "[c]\\n' > traits/a.yaml; printf \"mosaicum: 1\\ntrait: b\\ntraits: [c]\\n$S 40 MiB}}}}\\n\" "
     "> traits/b.yaml; "
     "printf \"mosaicum: 1\\ntrait: c\\n$S 50 MiB}}}}\\n\" > traits/c.yaml; $M check; $M show "
     "curlew layout | "
     "grep ^boot | tr -s ' '",
     0,
     {"Nothing to complain about: 1 board", "44 MiB 40 MiB"}},
    /* what is damaged, what is impossible */
    {NULL,
     "mkdir r; echo x > r/f; truncate -s 2M v; mkfs.ext4 -q -O ^metadata_csum -d r v; debugfs -w "
     "-R 'ea_set f "
     "user.note low' v 2> /dev/null; o=$(grep -abo note v | head -1 | cut -d: -f1); for p in '0 "
     "\\377' '2 "
     "\\377\\177' '4 \\1' '8 \\377\\177' '8 \\3'; do set -- $p; cp v w; printf \"$2\" | dd of=w "
     "bs=1 "
     "seek=$((o - 16 + $1)) conv=notrunc status=none; $M inspect --files w | grep -o "
     "'damaged\\|user.note'; "
     "done | tr '\\n' +",
     0,
     {"damaged+damaged+damaged+damaged+user.note+"}},
    {NULL,
     "truncate -s 2M f; mkfs.fat -F12 f > /dev/null; for b in '\\000' '\\001' '\\003' '\\200' "
     "'\\377'; do cp f g; "
     "printf \"$b\" | dd of=g bs=1 seek=13 conv=notrunc status=none; $M inspect --files g | grep "
     "-c "
     "'impossible sizes'; done | tr '\\n' +",
     0,
     {"1+0+1+0+1+"}},
    /* the last cluster of a volume, and the one behind it, where the file goes on */
    {NULL,
     "mkfs.fat -F 12 -s 8 -C f 2048 > /dev/null; truncate -s 3M f; head -c 3000 /dev/zero | tr "
     "'\\0' x > a.txt; "
     "$M -q amend f :a.txt=a.txt -o x; mv x f; n=$(fsck.fat -nv f | grep -o '[0-9]* data clusters' "
     "| cut -d' ' "
     "-f1); o=$(grep "
     "-abo 'A       TXT' f | cut -d: -f1); for c in $((n + 1)) $((n + 2)); do cp f g; printf "
     "\"\\\\$(printf %o $((c & "
     "255)))\\\\$(printf %o $((c >> 8)))\" | dd of=g bs=1 seek=$((o + 26)) conv=notrunc "
     "status=none; $M take g "
     ":a.txt -o - | wc -c; done",
     0,
     {"3000\n", "/a.txt ends early: 3000 bytes of it are lost.\n0\n"}},
    {NULL,
     "sed -i 's/960 MiB, erase/9600 MiB, erase/; s/size: 64 MiB, volume: {kind: fat32/size: 5 GiB, "
     "volume: "
     "{kind: fat16/'" BOARD "; $M check",
     1,
     {"A fat16 volume cannot be larger than 2.0 GiB.", "try  Set kind: fat32."}},
    {NULL,
     "printf 'CONFIG_TIDE=\\nCONFIG_EBB=5x\\n' >> kernel/jetty.config; $M check",
     1,
     {"try  Write the value behind the = in full.", "try  Write \"5x\""}},
    {NULL,
     "sleep 0.3; export XDG_CACHE_HOME=$PWD/c; $R -q build --out o; $R -q build --out o; $R build "
     "--out o | head "
     "-1; for n in hash-of-chunks sha256; do sed -i \"s/\\\"$n\\\"/\\\"none\\\"/\" "
     "o/curlew/ledger.json; $R build "
     "--out o | head -1; done",
     0,
     {"Nothing has changed since it was built into o/curlew\nBuilt into o/curlew\nBuilt into "
      "o/curlew\n"}},
    {NULL,
     "sed -i 's/^pieces:/&\\n  early: {ramdisk: {modules: {in: linux, names: [gauge]}, files: {i: "
     "{text: x, "
     "to: \\/note}, first: {in: rootfs, path: bin\\/sh, to: \\/init}}}}/; s/^      tree: "
     "main$/&\\n      ramdisk: early/'" BOARD
     "; sleep 0.3; export XDG_CACHE_HOME=$PWD/c; for o in one two; do sed -i \"s/names: "
     ".gauge.[^}]*/names: "
     "[gauge], order: \\/$o/\"" BOARD "; $R -q build --out $o; $R -q build --out $o; $R -q take "
     "$o/curlew/card.img boot:early -o $o.gz; zcat $o.gz | grep -ao '00\\(one\\|two\\)'; done",
     0,
     {"00one\n00two\n"}},
    /* what cannot be made is not made, accepted or not */
    {"loader.env-too-big",
     "cp '" MOSAICUM_SOURCE "/tests/rules/loader.env-too-big/fails/boards/curlew.yaml' boards/; $M "
     "-q check --accept > said; $M -q build",
     1,
     {"loader.env-too-big"}},
    /* the first and the last character of each length, and what is none */
    {NULL,
     "mkdir r; for n in '\\337\\277' '\\340\\237\\277' '\\340\\240\\200' '\\360\\217\\277\\277' "
     "'\\360\\220\\200\\200' '\\364\\220\\200\\200' '\\355\\240\\200' '\\356\\200\\200' '\\303' "
     "'\\302\\200' '\\301\\277' '\\365\\200\\200\\200'; do touch \"r/$(printf \"=$n=\")\"; done; "
     "truncate -s 2M v; mkfs.ext4 -q -d r v; $M inspect --files v | grep -o '=.*=' | tr -d '\\n'",
     0,
     {"=\\xc1\\xbf==\\xc2\\x80==\\xc3==\xdf\xbf==\\xe0\\x9f\\xbf==\xe0\xa0\x80==\\xed\\xa0\\x80=="
      "\xee\x80\x80=="
      "\\xf0\\x8f\\xbf\\xbf==\xf0\x90\x80\x80==\\xf4\\x90\\x80\\x80==\\xf5\\x80\\x80\\x80="}},

    /* passwords are tried again where only the hash of their file is known */
    {NULL,
     "mkdir r && zstd -qdc pieces/rootfs.tar.zst | tar -C r --exclude ./dev -xf - && mkdir r/dev "
     "&& printf "
     "'root:%s:1::::::\\n' "
     "\"$(openssl passwd -6 -salt tide root)\" > r/etc/shadow && tar -C r -c --owner=0 --group=0 . "
     "| "
     "zstd -qf -o pieces/rootfs.tar.zst; export XDG_CACHE_HOME=$PWD/c; $R -q check; echo again; $R "
     "check",
     0,
     {"again\nWARNING  access.default-password  curlew"}},
};

static void corners_are_as_they_are(void) {
    const char *demo = keep(test_folder("demo"));
    copy_demo(demo);
    CU_ASSERT_TRUE_FATAL(runs(0, "cd '%s' && '%s' --no-cache -q build", demo, MOSAICUM_PROGRAM));
    for (size_t i = 0; i < sizeof corners / sizeof *corners; i++) {
        const struct corner *c = &corners[i];
        const char *w = keep(test_folder("corner"));
        copy_folder(c->base ? path_in(MOSAICUM_SOURCE, "tests/rules/%s/passes", c->base) : demo, w);
        struct outcome o =
            run_shell("export LC_ALL=C.UTF-8; cd '%s' && R='%s' && M=\"$R --no-cache\" "
                      "&& { %s; } 2>&1",
                      w, MOSAICUM_PROGRAM, c->change);
        bool good = o.status == c->status;
        for (size_t k = 0; k < 3 && c->says[k]; k++)
            good = good && strstr(o.out, c->says[k]);
        if (!good)
            fprintf(stderr, "\n%s\nended with %d and said:\n%s%s\n", c->change, o.status, o.out,
                    o.err);
        CU_ASSERT(good);
        outcome_free(&o);
        remove_folder(w);
    }
}

/* Every word that is tried first is found, the user's own and the board's name among them. */
static void common_passwords_are_found(void) {
    static const char *const words[] = {"tide",     "root",    "admin",    "password",
                                        "toor",     "1234",    "12345678", "123456",
                                        "changeme", "default", "curlew",   "Gezeitentafel"};
    enum { WORDS = sizeof words / sizeof *words };
    for (size_t i = 0; i < WORDS; i++) {
        const char *w = keep(test_folder("password"));
        copy_folder(path_in(MOSAICUM_SOURCE, "tests/rules/access.default-password/passes"), w);
        struct outcome o = run_shell(
            "cd '%s' && printf 'tide:x:1000:1000::/:/bin/sh\n' > root/etc/passwd && printf "
            "'tide:%%s:1::::::\n' \"$(openssl passwd -5 -salt tide %s)\" > root/etc/shadow && '%s' "
            "--no-cache check",
            w, words[i], MOSAICUM_PROGRAM);
        bool found = strstr(o.out, "The password of tide is one that anybody tries first.") != NULL;
        if (found != (i + 1 < WORDS))
            fprintf(stderr, "\n%s: %s%s\n", words[i], o.out, o.err);
        CU_ASSERT_EQUAL(found, i + 1 < WORDS);
        outcome_free(&o);
    }
}

SUITE(corners_suite, {"common passwords are found", common_passwords_are_found},
      {"corners are as they are", corners_are_as_they_are});
