/* Lets an instrumented program leave its counts behind: the worker ends by _exit, which runs nothing
 * of what a compiler's library does at the end of a program. Linked with --wrap=_exit. */
void __real__exit(int code);
#ifdef PROFILE_LLVM
int __llvm_profile_write_file(void);
static void leave(void) { __llvm_profile_write_file(); }
#else
void __gcov_dump(void);
static void leave(void) { __gcov_dump(); }
#endif
void __wrap__exit(int code)
{
    leave();
    __real__exit(code);
}
