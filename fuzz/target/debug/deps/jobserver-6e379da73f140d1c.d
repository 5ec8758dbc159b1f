/work/main/fuzz/target/debug/deps/jobserver-6e379da73f140d1c.d: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/jobserver-0.1.35/src/lib.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/jobserver-0.1.35/src/error.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/jobserver-0.1.35/src/unix.rs

/work/main/fuzz/target/debug/deps/libjobserver-6e379da73f140d1c.rlib: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/jobserver-0.1.35/src/lib.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/jobserver-0.1.35/src/error.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/jobserver-0.1.35/src/unix.rs

/work/main/fuzz/target/debug/deps/libjobserver-6e379da73f140d1c.rmeta: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/jobserver-0.1.35/src/lib.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/jobserver-0.1.35/src/error.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/jobserver-0.1.35/src/unix.rs

/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/jobserver-0.1.35/src/lib.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/jobserver-0.1.35/src/error.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/jobserver-0.1.35/src/unix.rs:
