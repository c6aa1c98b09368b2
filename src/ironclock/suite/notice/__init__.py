"""Would the tests notice? One thing of the world or the code is changed, and the tests that touch it run again."""
