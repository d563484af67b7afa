// This file lets hostile.go declare a function without a body.
