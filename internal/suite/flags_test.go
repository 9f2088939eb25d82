package suite

import "flag"

// flagSet sets a flag of the test binary, such as the number of cases.
func flagSet(name, value string) error { return flag.Set(name, value) }
