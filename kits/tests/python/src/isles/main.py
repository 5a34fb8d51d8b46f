def run(): pass
