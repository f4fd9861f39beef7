#!/bin/sh
# Whether a program was built as cmake/hardening.cmake wants it. Usage: packaging/hardened.sh PROGRAM SOURCE
set -u
program=$1 source=$2 failed=0
wrong() {
    echo "$program: $1: see cmake/hardening.cmake"
    failed=1
}

readelf -hW "$program" | grep -q 'Type:.*DYN' || wrong 'no position-independent executable (-pie)'
readelf -lW "$program" | grep -q GNU_RELRO || wrong 'relocations stay writable (-z relro)'
readelf -dW "$program" | grep -Eq 'BIND_NOW|FLAGS_1.*NOW' || wrong 'functions are bound late (-z now)'
readelf -lW "$program" | grep GNU_STACK | grep -q 'RWE' && wrong 'its stack can be executed'
nm -D "$program" | grep -q __stack_chk_fail || wrong 'stacks are not guarded (-fstack-protector-strong)'
nm -D "$program" | grep -q '_chk@' || wrong 'copies are not checked (-D_FORTIFY_SOURCE=3)'
case $(uname -m) in
# The system's own start files may lack it, and with them the mark on the whole: so the code itself is looked at.
x86_64) [ "$(objdump -d "$program" | grep -c endbr64)" -gt 100 ] ||
    wrong 'jumps are not guarded (-fcf-protection)' ;;
esac
grep -qaF "$source/" "$program" && wrong "it holds a path of this machine, $source (-ffile-prefix-map)"
exit $failed
