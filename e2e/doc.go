// Package e2e drives the real interface in headless Chromium.
package e2e
