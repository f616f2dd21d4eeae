package service
