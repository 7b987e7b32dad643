"""What every supplier of a protocol has to do, as checks that need no test program: held in the tests, and on a machine of one's own."""
