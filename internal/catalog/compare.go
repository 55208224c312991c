package catalog

import (
	"fmt"
	"reflect"
	"slices"
	"strings"
)

// Compare tells in plain words what is different in a schema, a line for each
// thing, in the order of the tables.
func Compare(before, after *Catalog) []string {
	c := &comparison{}
	for i := range before.Tables {
		old := &before.Tables[i]
		if now, ok := after.Table(old.Schema, old.Name); ok {
			c.table(old, now)
		} else {
			c.say("the %s %s is gone", old.Kind, old.FullName())
		}
	}
	for i := range after.Tables {
		now := &after.Tables[i]
		if _, ok := before.Table(now.Schema, now.Name); !ok {
			c.say("the %s %s is new", now.Kind, now.FullName())
		}
	}
	c.enums(before, after)
	c.routines(before, after)
	return c.lines
}

// comparison gathers what is different.
type comparison struct{ lines []string }

func (c *comparison) say(format string, args ...any) {
	c.lines = append(c.lines, fmt.Sprintf(format, args...))
}

func (c *comparison) table(old, now *Table) {
	name := now.FullName()
	if old.Kind != now.Kind {
		c.say("%s is a %s now, was a %s", name, now.Kind, old.Kind)
	}
	for i := range old.Columns {
		if _, ok := now.Column(old.Columns[i].Name); !ok {
			c.say("%s: the column %s is gone", name, old.Columns[i].Name)
		}
	}
	for i := range now.Columns {
		column := &now.Columns[i]
		was, ok := old.Column(column.Name)
		if !ok {
			c.say("%s: the column %s is new, %s", name, column.Name, column.Declared)
			continue
		}
		c.column(name, was, column)
	}
	if a, b := keyText(old.PrimaryKey), keyText(now.PrimaryKey); a != b {
		c.say("%s: the key is %s now, was %s", name, b, a)
	}
	c.sets(name, "unique", uniqueTexts(old), uniqueTexts(now))
	c.sets(name, "reference", referenceTexts(old), referenceTexts(now))
	c.sets(name, "check", checkTexts(old), checkTexts(now))
	if old.Definition != now.Definition {
		c.say("%s: its definition has changed", name)
	}
	if old.Comment != now.Comment {
		c.say("%s: its comment has changed", name)
	}
}

func (c *comparison) column(table string, was, now *Column) {
	at := table + "." + now.Name
	if was.Declared != now.Declared || !reflect.DeepEqual(was.Type, now.Type) {
		c.say("%s is %s now, was %s", at, now.Declared, was.Declared)
	}
	switch {
	case was.Nullable && !now.Nullable:
		c.say("%s must have a value now", at)
	case !was.Nullable && now.Nullable:
		c.say("%s may be null now", at)
	}
	if !reflect.DeepEqual(was.Default, now.Default) {
		c.say("%s: its default is %s now, was %s", at, defaultText(now.Default), defaultText(was.Default))
	}
	if was.Generated != now.Generated {
		c.say("%s: what computes it has changed", at)
	}
	if was.Comment != now.Comment {
		c.say("%s: its comment has changed", at)
	}
}

// sets tells what came and what went of things that have no names of their own.
func (c *comparison) sets(table, kind string, old, now []string) {
	for _, text := range old {
		if !slices.Contains(now, text) {
			c.say("%s: the %s %s is gone", table, kind, text)
		}
	}
	for _, text := range now {
		if !slices.Contains(old, text) {
			c.say("%s: the %s %s is new", table, kind, text)
		}
	}
}

func (c *comparison) enums(before, after *Catalog) {
	for _, old := range before.Enums {
		full := Qualify(old.Schema, old.Name)
		now, ok := after.Enum(full)
		if !ok {
			c.say("the enum %s is gone", full)
			continue
		}
		c.sets(full, "label", old.Labels, now.Labels)
	}
	for _, now := range after.Enums {
		if full := Qualify(now.Schema, now.Name); !hasEnum(before, full) {
			c.say("the enum %s is new", full)
		}
	}
}

func hasEnum(c *Catalog, full string) bool {
	_, ok := c.Enum(full)
	return ok
}

func (c *comparison) routines(before, after *Catalog) {
	texts := func(list []Routine) []string {
		var all []string
		for _, r := range list {
			all = append(all, fmt.Sprintf("%s %s(%d)", r.Kind, Qualify(r.Schema, r.Name), len(r.Arguments)))
		}
		return all
	}
	old, now := texts(before.Routines), texts(after.Routines)
	for _, text := range old {
		if !slices.Contains(now, text) {
			c.say("the %s is gone", text)
		}
	}
	for _, text := range now {
		if !slices.Contains(old, text) {
			c.say("the %s is new", text)
		}
	}
}

func keyText(k *Key) string {
	if k == nil {
		return "none"
	}
	return strings.Join(k.Columns, ", ")
}

func uniqueTexts(t *Table) []string {
	var list []string
	for _, u := range t.Uniques {
		list = append(list, "("+strings.Join(u.Columns, ", ")+")")
	}
	return list
}

func referenceTexts(t *Table) []string {
	var list []string
	for _, r := range t.References {
		list = append(list, fmt.Sprintf("of %s to %s", strings.Join(r.Columns, ", "), Qualify(r.Schema, r.Table)))
	}
	return list
}

func checkTexts(t *Table) []string {
	var list []string
	for _, c := range t.Checks {
		list = append(list, c.Expr)
	}
	return list
}

func defaultText(d *Default) string {
	if d == nil {
		return "none"
	}
	if d.Text == "" {
		return string(d.Kind)
	}
	return d.Text
}
