import "page";
